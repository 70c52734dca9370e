"""Which flats and darks fit what was shot in each night, as far as their headers tell."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Final

from ...core.files.calibration_header import (
    CalibrationHeader,
    calibration_kind,
    read_calibration,
)
from ...core.model.errors import BichromusError
from ..project.store import Store
from .sub import Sub

ANGLE_DEG: Final = 2.0
"""Turn of the camera from which dust and vignetting of a flat lie elsewhere."""
TEMPERATURE_C: Final = 2.0
"""Difference of the sensor from which a dark's current is another: it doubles in 6 degrees."""
FLAT_DAYS: Final = 14
"""Days over which dust is taken to stay where it is."""
_SAME_LENGTH: Final = 0.01


@dataclass(frozen=True)
class NightCalibration:
    """Subs of one filter, length and setting in a night, with the flats and darks that fit them."""

    night: dt.date
    channel: str
    seconds: float
    flats: int
    darks: int


def fits_flat(flat: CalibrationHeader, light: CalibrationHeader, night: dt.date) -> bool:
    """Same filter and camera, the camera turned alike, at about the same time."""
    near = flat.start is None or abs((flat.start.date() - night).days) <= FLAT_DAYS
    return (
        flat.kind == "flat"
        and near
        and flat.filter == light.filter
        and _alike(flat, light)
        and _turned_alike(flat.angle, light.angle)
    )


def fits_dark(dark: CalibrationHeader, light: CalibrationHeader) -> bool:
    """Same length, gain, temperature and camera."""
    if dark.kind != "dark" or dark.seconds is None or light.seconds is None:
        return False
    same_length = abs(dark.seconds - light.seconds) <= _SAME_LENGTH * light.seconds
    warm = dark.temperature_c, light.temperature_c
    same_warmth = None in warm or abs(warm[0] - warm[1]) <= TEMPERATURE_C  # type: ignore[operator]
    return same_length and same_warmth and _alike(dark, light) and _same(dark.gain, light.gain)


def _alike(one: CalibrationHeader, two: CalibrationHeader) -> bool:
    return not one.camera or not two.camera or one.camera == two.camera


def _same(one: float | None, two: float | None) -> bool:
    return one is None or two is None or one == two


def _shot_alike(one: CalibrationHeader | None, two: CalibrationHeader | None) -> bool:
    if one is None or two is None:
        return one is two
    return _alike(one, two) and _turned_alike(one.angle, two.angle)


def _turned_alike(one: float | None, two: float | None) -> bool:
    if one is None or two is None:
        return True
    return abs((one - two + 90) % 180 - 90) <= ANGLE_DEG


def calibrations(
    subs: Iterable[Sub], lights: dict[str, CalibrationHeader], frames: Sequence[CalibrationHeader]
) -> list[NightCalibration]:
    """By night, filter and setting what fits; ``lights`` are headers by a sub's file."""
    groups: dict[tuple[Any, ...], tuple[Sub, CalibrationHeader]] = {}
    for s in subs:
        header = lights.get(s.file) or CalibrationHeader("light", s.channel, s.seconds)
        key = (s.night, s.channel, s.seconds, header.gain, header.temperature_c, header.angle)
        groups.setdefault(key, (s, header))
    out: dict[tuple[dt.date, str, float], NightCalibration] = {}
    for s, header in groups.values():
        made = NightCalibration(
            s.night,
            s.channel,
            s.seconds,
            sum(fits_flat(f, header, s.night) for f in frames),
            sum(fits_dark(f, header) for f in frames),
        )
        known = out.get((s.night, s.channel, s.seconds))
        if known is None or (made.flats, made.darks) < (known.flats, known.darks):
            out[s.night, s.channel, s.seconds] = made  # the part that fares worst is told
    return sorted(out.values(), key=lambda n: (n.night, n.channel, n.seconds))


class CalibrationFiles:
    """Reads headers once; all methods are called from one worker at a time."""

    def __init__(self) -> None:
        self._known: dict[str, CalibrationHeader | None] = {}

    def frames(self, store: Store) -> list[CalibrationHeader]:
        """Flats, darks and bias of the log."""
        rows: list[Any] = store.rows("SELECT path, word FROM others")
        out = []
        for path, word in rows:
            kind = calibration_kind(str(word))
            if kind is not None:
                out.append(self._read(str(path), kind))
        return [f for f in out if f is not None]

    def lights(self, subs: Iterable[Sub]) -> dict[str, CalibrationHeader]:
        """Headers of subs. Of each night, filter and length the first and the last are read; more
        only where these were shot at different angles.
        """
        runs: dict[tuple[dt.date, str, float], list[Sub]] = {}
        for s in subs:
            if s.file:
                runs.setdefault((s.night, s.channel, s.seconds), []).append(s)
        found: dict[str, CalibrationHeader] = {}
        for run in runs.values():
            run.sort(key=lambda s: (s.start is not None, s.start or dt.datetime.min, s.file))
            for s, header in zip(run, self._told(run), strict=True):
                if header is not None:
                    own = {**asdict(header), "filter": s.channel, "seconds": s.seconds}
                    own["gain"] = s.figures.get("gain")
                    own["temperature_c"] = s.figures.get("temperature_c")
                    found[s.file] = CalibrationHeader(**own)
        return found

    def _told(self, run: Sequence[Sub]) -> list[CalibrationHeader | None]:
        """The headers of subs one after the other: what holds for both ends holds between."""
        first, last = (self._read(s.file, "light") for s in (run[0], run[-1]))
        if len(run) < 3:
            return [first, last][: len(run)]
        if _shot_alike(first, last):
            return [first] * (len(run) - 1) + [last]
        half = len(run) // 2
        return self._told(run[:half]) + self._told(run[half:])

    def _read(self, path: str, kind: Any) -> CalibrationHeader | None:
        if path not in self._known:
            try:
                self._known[path] = read_calibration(Path(path), kind)
            except (BichromusError, OSError):
                self._known[path] = None
        return self._known[path]

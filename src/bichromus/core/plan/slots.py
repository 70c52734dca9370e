"""Windows of the coming nights, and what every filter brings to every target in each."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np

from .bodies import ephemeris
from .dates import RISE, noon
from .earth import F64
from .night import Track
from .sharing import OpenWindow
from .station import Aim, Station
from .stretches import Stretch
from .through import SkyPath, Through, sky_path

STEP_DAYS: Final = 10 / 1440
"""Airmass and twilight move through a night: they are looked at every ten minutes."""
_PER_NIGHT: Final = 144
_SHORTEST_H: Final = 0.1
WORTH: Final = 0.05
"""Of an hour in the dark, below which a sky is not worth an exposure."""
Key = tuple[str, str]
"""A target and a filter."""


@dataclass(frozen=True)
class Slot:
    """A window of a station: hours of one kind of sky in a night, and the mean SNR squared that an
    hour of open shutter adds there, by target and filter, then channel.
    """

    window: OpenWindow
    date: dt.date
    moonlit: bool
    gains: Mapping[Key, Mapping[str, float]]


@dataclass(frozen=True)
class Curves:
    """What filters bring at moments (N,) of a stretch, by target and filter, then channel, and the
    sky on each target.
    """

    utc: F64
    gains: Mapping[Key, Mapping[str, F64]]
    paths: Mapping[str, SkyPath]

    @cached_property
    def means(self) -> dict[Key, dict[str, float]]:
        """The gains on average over the stretch."""
        return {k: {c: float(v.mean()) for c, v in g.items()} for k, g in self.gains.items()}


def curves_of(
    station: Station, aims: Sequence[Aim], throughs: Sequence[Through], stretch: Stretch
) -> Curves:
    """Of a stretch of tonight."""
    utc = stretch.moments(STEP_DAYS)
    sky = ephemeris(int(utc[0]) - 1, int(utc[-1]) + 2)
    gains: dict[Key, Mapping[str, F64]] = {}
    paths = {}
    for aim in (a for a in aims if a.name in stretch.targets):
        path, _ = sky_path(station, aim, utc, sky)
        paths[aim.name] = path
        for t in (t for t in throughs if t.aim == aim.name):
            found = t.per_hour(path)
            if any(v.mean() >= WORTH * t.alone[c] > 0 for c, v in found.items()):
                gains[aim.name, t.filter] = found
    return Curves(utc, gains, paths)


def later_slots(
    station: Station,
    aims: Sequence[Aim],
    throughs: Sequence[Through],
    dates: Sequence[dt.date],
    efficiency: float,
    clear: Mapping[dt.date, float],
) -> list[Slot]:
    """Of nights to come: hours in which the same targets are open, the Moon up or down."""
    if not dates or not aims:
        return []
    starts = np.array([noon(d, station.place) for d in dates])
    sky = ephemeris(int(starts[0]), int(starts[-1]) + 1)
    utc = (starts[:, None] + (np.arange(_PER_NIGHT) + 0.5) * STEP_DAYS).ravel()
    night = np.repeat(np.arange(len(dates)), _PER_NIGHT)
    allowed = _awake(station, dates, utc, night)
    kinds = np.zeros(len(utc), int)
    paths, moon = {}, np.zeros(len(utc))
    for n, aim in enumerate(aims):
        path, track = sky_path(station, aim, utc, sky)
        paths[aim.name], moon = path, track.moon
        kinds += (_open(station, track) & allowed) * (2 << n)
    used = np.flatnonzero(kinds)
    if not len(used):
        return []
    kinds = kinds[used] + (moon[used] > RISE)
    codes, group = np.unique(night[used] * (4 << len(aims)) + kinds, return_inverse=True)
    count = np.bincount(group)
    means = _means(throughs, paths, used, group)
    out = []
    for g, code in enumerate(codes):
        date, kind = dates[int(code) // (4 << len(aims))], int(code) % (4 << len(aims))
        hours = count[g] * STEP_DAYS * 24
        names = {a.name for n, a in enumerate(aims) if kind & (2 << n)}
        gains = {
            (t.aim, t.filter): {c: float(v[g]) for c, v in found.items()}
            for t, found in means
            if t.aim in names and any(v[g] >= WORTH * t.alone[c] > 0 for c, v in found.items())
        }
        if hours < _SHORTEST_H or not gains:
            continue
        name = f"{station.name} {date.isoformat()} {kind}"
        window = OpenWindow(name, station.name, hours, efficiency, clear[date])
        out.append(Slot(window, date, bool(kind & 1), gains))
    return out


def _means(
    throughs: Sequence[Through],
    paths: Mapping[str, SkyPath],
    used: np.ndarray,
    group: np.ndarray,
) -> list[tuple[Through, dict[str, F64]]]:
    """What each filter brings in an hour, on average over the moments of each group."""
    count = np.bincount(group)
    out = []
    for t in throughs:
        whole = paths[t.aim]
        path = SkyPath(
            whole.airmass[used], whole.glow[used], whole.moon_nl[used], whole.sun_down[used]
        )
        found = t.per_hour(path).items()
        out.append((t, {c: np.asarray(np.bincount(group, v) / count) for c, v in found}))
    return out


def _open(station: Station, track: Track) -> np.ndarray:
    """Whether the target stands high enough and the Sun is down (N,)."""
    assert track.target is not None
    assert track.skyline is not None
    rules = station.rules
    found = (
        (track.target > rules.min_altitude)
        & (track.target > track.skyline)
        & (track.sun < rules.sun_below)
    )
    return np.asarray(found & (track.moon < RISE) if rules.moon_down else found)


def _awake(station: Station, dates: Sequence[dt.date], utc: F64, night: np.ndarray) -> np.ndarray:
    """Whether the station may shoot (N,)."""
    spans = np.array([station.awake.get(d, (-np.inf, np.inf)) for d in dates])
    return np.asarray((utc >= spans[night, 0]) & (utc <= spans[night, 1]))

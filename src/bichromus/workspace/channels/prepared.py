"""Prepared channels: background-0 planes with their pyramid and figures, cached by hash."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any, Final

import numpy as np
from numpy.typing import NDArray

from ...core.blend.companions import half_size
from ...core.blend.compose import figures_of
from ...core.files.atomic import write_failed
from ...core.measure.halos import full_cores
from ...core.model.measures import Measure, Noise, Stars, Surface
from ...core.model.planes import F32, Header
from ...core.model.recipe import ChannelFigures

FORMAT: Final = 7
_SMALLEST: Final = 400
_BINS: Final = 96
_LOW: Final = float(np.arcsinh(-3.0))


@dataclass(frozen=True, eq=False)
class Prepared:
    """One channel from one origin. ``levels[k]`` is the plane averaged over 2^k x 2^k pixels,
    memory-mapped; ``maps`` are masks beside it as bytes, in the same way; ``halves`` other planes
    to look at, from half size on.
    """

    key: str
    channel: str
    origin: str
    label: str
    measure: Measure
    levels: tuple[F32, ...]
    hours: float | None
    notes: dict[str, Any]
    preliminary: bool = False
    maps: dict[str, tuple[NDArray[np.uint8], ...]] = field(default_factory=dict)
    halves: dict[str, tuple[F32, ...]] = field(default_factory=dict)

    @property
    def shape(self) -> tuple[int, int]:
        return self.measure.shape

    def figures(self) -> ChannelFigures:
        """For the recipe: the plane is stored with its background already at zero."""
        header = Header(total_s=self.hours * 3600 if self.hours else None)
        found = figures_of(self.measure, header, self.label, self.key)
        return found.model_copy(update={"background": (0.0, 0.0, 0.0)})


def prepared_key(*parts: str) -> str:
    """The name in the cache of what was made of such parts; empty ones do not count."""
    return hashlib.sha256("\n".join((str(FORMAT), *filter(None, parts))).encode()).hexdigest()[:24]


def load_prepared(cache: Path, key: str) -> Prepared | None:
    """From the cache; None when it is not there or not whole."""
    folder = cache / key
    try:
        facts = json.loads((folder / "facts.json").read_text("utf-8"))
        if facts["format"] != FORMAT:
            return None
        levels = tuple(
            np.load(folder / f"level{i}.npy", mmap_mode="r") for i in range(facts["levels"])
        )
        maps = {
            n: tuple(np.load(folder / f"{n}{i}.npy", mmap_mode="r") for i in range(facts["levels"]))
            for n in facts["maps"]
        }
        halves = {
            n: tuple(np.load(folder / f"{n}{i}.npy", mmap_mode="r") for i in range(count))
            for n, count in facts["halves"].items()
        }
        os.utime(folder)  # what was not asked for longest goes first when the cache is full
        return Prepared(
            key,
            facts["channel"],
            facts["origin"],
            facts["label"],
            _measure(facts["measure"]),
            levels,
            facts["hours"],
            facts["notes"],
            maps=maps,
            halves=halves,
        )
    except (OSError, ValueError, KeyError, TypeError):
        return None


def save_prepared(
    cache: Path,
    key: str,
    channel: str,
    origin: str,
    label: str,
    plane: F32,
    measure: Measure,
    hours: float | None,
    notes: dict[str, Any],
    maps: Mapping[str, F32] | None = None,
    halves: Mapping[str, F32] | None = None,
) -> Prepared:
    """Take the background off, build the pyramid, write it whole or not at all. ``maps`` hold 0 to
    1, ``halves`` are planes of half the size with their sky at 0.

    Raises WriteFailed.
    """
    partial = cache / f".{key}.{os.getpid()}.partial"
    shutil.rmtree(partial, ignore_errors=True)
    try:
        partial.mkdir(parents=True)
        clean = plane - measure.surface.rows(0, plane.shape[0])
        np.nan_to_num(clean, copy=False, nan=0.0)
        count = _save_levels(partial, "level", clean, np.float32(1), np.float32)
        for name, values in (maps or {}).items():
            _save_levels(partial, name, values, np.float32(255), np.uint8)
        smaller = {
            n: _save_levels(partial, n, p, np.float32(1), np.float32)
            for n, p in (halves or {}).items()
        }
        facts = {
            "format": FORMAT,
            "channel": channel,
            "origin": origin,
            "label": label,
            "levels": count,
            "maps": list(maps or ()),
            "halves": smaller,
            "measure": asdict(measure),
            "hours": hours,
            "notes": {**notes, "histogram": _histogram(clean, measure)},
        }
        (partial / "facts.json").write_text(json.dumps(facts), "utf-8")
        shutil.rmtree(cache / key, ignore_errors=True)
        os.replace(partial, cache / key)
    except OSError as error:
        raise write_failed(error, cache / key) from error
    finally:
        shutil.rmtree(partial, ignore_errors=True)
    found = load_prepared(cache, key)
    assert found is not None
    return found


def _histogram(plane: F32, measure: Measure) -> dict[str, Any]:
    """How many pixels have which value, in steps that are even in noise near zero and in ratio
    above; ``unit`` is two sigma, positions are asinh(value / unit).
    """
    unit = 2 * measure.noise.sigma_px or 1e-12
    values = np.arcsinh(np.asarray(plane).ravel()[:: max(1, plane.size // 400_000)] / unit)
    high = float(np.arcsinh(max(float(plane.max()), 4 * unit) / unit))
    counts, _ = np.histogram(values, bins=_BINS, range=(_LOW, high))
    return {"unit": unit, "low": _LOW, "high": high, "counts": counts.tolist()}


def core_notes(plane: F32, measure: Measure, top: float | None) -> list[list[float]]:
    """Full cores and their halos for the notes: x, y, pixels, radius of the halo. ``top`` is in the
    plane's units.
    """
    calm = np.nan_to_num(plane - np.float32(measure.background))
    found = full_cores(
        calm,
        None if top is None else top - measure.background,
        measure.stars.fwhm_px or 3.0,
        measure.noise.sigma_px,
    )
    return [[round(c.x, 1), round(c.y, 1), c.pixels, c.halo_px] for c in found]


def _save_levels(folder: Path, name: str, plane: F32, factor: np.float32, kind: type) -> int:
    count = 0
    while True:
        np.save(
            folder / f"{name}{count}.npy",
            plane if kind is np.float32 else np.rint(plane * factor).astype(kind),
        )
        count += 1
        if max(plane.shape) <= _SMALLEST:
            return count
        plane = half_size(plane)


def _measure(raw: dict[str, Any]) -> Measure:
    def plain(cls: Callable[..., Any], values: dict[str, Any]) -> Any:
        return cls(**{k: tuple(v) if isinstance(v, list) else v for k, v in values.items()})

    parts = {
        "surface": plain(Surface, raw["surface"]),
        "noise": plain(Noise, raw["noise"]),
        "stars": plain(Stars, raw["stars"]),
    }
    measure: Measure = plain(Measure, {**raw, **parts})
    return replace(measure, shape=(int(raw["shape"][0]), int(raw["shape"][1])))

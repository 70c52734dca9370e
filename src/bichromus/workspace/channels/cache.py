"""Prepared channels on disk, each in a folder named by the hash of all that it was made of."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import Any, Final

import numpy as np
from pydantic import TypeAdapter

from ...core.blend.companions import half_size
from ...core.files.atomic import write_failed
from ...core.model.measures import Measure
from ...core.model.planes import F32
from ..project.cache import DAMAGED
from ..project.door import Door
from .notes import Histogram, Notes
from .origin import Origin
from .prepared import Prepared

FORMAT: Final = 11
FACTS: Final = "facts.json"
"""The file of a channel's folder that is there when all of it is."""
_SMALLEST_PX: Final = 400
"""A pyramid ends at the level whose longer side is no longer than this: smaller than any view."""
_DIGITS: Final = 24  # of a name in the cache
_ALIKE: Final = 14
_MOST_LEVELS: Final = 40
"""Halvings of the largest picture there could be."""
_BINS: Final = 96
_SAMPLES: Final = 400_000
_LOW: Final = float(np.arcsinh(-3.0))


@dataclass(frozen=True)
class Draft:
    """A channel that was made and is not in the cache yet: the plane (H, W) with the background
    still in it, ``maps`` (H, W) from 0 to 1, ``half_res_planes`` of half the size with their sky at
    0.
    """

    origin: Origin
    label: str
    plane: F32
    measure: Measure
    hours: float | None
    notes: Notes
    maps: Mapping[str, F32] = field(default_factory=dict)
    half_res_planes: Mapping[str, F32] = field(default_factory=dict)


@dataclass(frozen=True)
class _Facts:
    """All of a prepared channel but its planes."""

    format: int
    origin: Origin
    label: str
    levels: int
    maps: tuple[str, ...]
    half_res_planes: dict[str, int]
    measure: Measure
    hours: float | None
    notes: Notes


@cache
def _facts() -> TypeAdapter[_Facts]:
    return TypeAdapter(_Facts)


def prepared_key(*parts: str, last: Sequence[str] = ()) -> str:
    """The name in the cache of what was made of such parts; empty ones do not count. Names that
    differ only in the ``last`` step begin alike.
    """
    key = _digest(str(FORMAT), *filter(None, parts))
    return key[:_ALIKE] + _digest(*last)[: _DIGITS - _ALIKE] if last else key


def _digest(*parts: str) -> str:
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()[:_DIGITS]


def has_sibling(cache: Path, key: str) -> bool:
    """Whether something was made of the same, whatever its last step."""
    return any(_door(cache).exists(cache.name, name, FACTS) for name in _alike(cache, key))


def load_sibling(cache: Path, key: str) -> Prepared | None:
    """What was last made of the same, but for another last step."""
    for name in _alike(cache, key):
        found = load_prepared(cache, name) if name != key else None
        if found is not None:
            return found
    return None


def _door(cache: Path) -> Door:
    return Door(cache.parent)


def _alike(cache: Path, key: str) -> list[str]:
    """Names of entries that begin as a key does, those last used first."""
    found = [
        (entry.stat(follow_symlinks=False).st_mtime, entry.name)
        for entry in _door(cache).names(cache.name)
        if entry.name.startswith(key[:_ALIKE]) and entry.is_dir(follow_symlinks=False)
    ]
    return [name for _, name in sorted(found, reverse=True)]


def has_prepared(cache: Path, key: str) -> bool:
    """Whether an entry seems to be there; it has not been read."""
    return _door(cache).exists(cache.name, key, FACTS)


def load_prepared(cache: Path, key: str) -> Prepared | None:
    """From the cache; None when it is not there or not whole."""
    folder = _Folder(_door(cache), cache.name, key)
    try:
        facts = _facts().validate_python(json.loads(folder.text(FACTS)))
        if facts.format != FORMAT:
            return None
        levels = _load_levels(folder, "level", facts.levels)
        if levels[0].shape != facts.measure.shape:
            return None
        found = Prepared(
            key,
            facts.origin,
            facts.label,
            facts.measure,
            levels,
            facts.hours,
            facts.notes,
            maps={n: _load_levels(folder, n, facts.levels) for n in facts.maps},
            half_res_planes={
                n: _load_levels(folder, n, count) for n, count in facts.half_res_planes.items()
            },
        )
    except DAMAGED:
        return None
    with suppress(OSError):  # a disk that may only be read: what is there can still be used
        os.utime(cache / key)  # what was not asked for longest goes first when the cache is full
    return found


def save_prepared(cache: Path, key: str, draft: Draft) -> Prepared:
    """Take the background off, build the pyramid, write it whole or not at all. Raises
    WriteFailed.
    """
    partial = cache / f".{key}.{os.getpid()}.partial"
    shutil.rmtree(partial, ignore_errors=True)
    try:
        _door(cache).folder(cache.name, make=True)  # where the project is gone, no other is made
        partial.mkdir()
        _write(partial, draft)
        _settle(partial)
        if (cache / key).is_symlink():
            (cache / key).unlink()
        shutil.rmtree(cache / key, ignore_errors=True)
        os.replace(partial, cache / key)
    except OSError as error:
        raise write_failed(error, cache / key) from error
    finally:
        shutil.rmtree(partial, ignore_errors=True)
    found = load_prepared(cache, key)
    assert found is not None
    return found


def _settle(folder: Path) -> None:
    """Wait until the disk holds the files of a folder: no cut of the power leaves one half."""
    for path in folder.iterdir():
        with open(path, "rb") as handle:
            os.fsync(handle.fileno())


def _write(folder: Path, draft: Draft) -> None:
    measure = draft.measure
    clean = draft.plane - measure.surface.rows(0, draft.plane.shape[0])
    np.nan_to_num(clean, copy=False, nan=0.0)
    count = _save_levels(folder, "level", clean)
    for name, values in draft.maps.items():
        _save_levels(folder, name, values, as_bytes=True)
    halves = {n: _save_levels(folder, n, p) for n, p in draft.half_res_planes.items()}
    facts = _Facts(
        FORMAT,
        draft.origin,
        draft.label,
        count,
        tuple(draft.maps),
        halves,
        measure,
        draft.hours,
        replace(draft.notes, histogram=_histogram(clean, measure)),
    )
    (folder / FACTS).write_text(json.dumps(asdict(facts)), "utf-8")


@dataclass(frozen=True)
class _Folder:
    """An entry of the cache, read through the door of its project."""

    door: Door
    cache: str
    key: str

    def text(self, name: str) -> str:
        return self.door.read(self.cache, self.key, name).decode("utf-8")

    def array(self, name: str) -> np.ndarray:
        return self.door.array(self.cache, self.key, name)


def _load_levels(folder: _Folder, name: str, count: int) -> tuple[Any, ...]:
    if not 0 < count <= _MOST_LEVELS:
        raise ValueError(f"{count} levels")
    return tuple(folder.array(f"{name}{i}.npy") for i in range(count))


def _save_levels(folder: Path, name: str, plane: F32, as_bytes: bool = False) -> int:
    count = 0
    while True:
        stored = np.rint(plane * np.float32(255)).astype(np.uint8) if as_bytes else plane
        np.save(folder / f"{name}{count}.npy", stored)
        count += 1
        if max(plane.shape) <= _SMALLEST_PX:
            return count
        plane = half_size(plane)


def _histogram(plane: F32, measure: Measure) -> Histogram:
    """How many pixels have which value, in steps that are even in noise near zero and in ratio
    above: the unit is two sigma.
    """
    unit = 2 * measure.noise.sigma_px or 1e-12
    values = np.arcsinh(np.asarray(plane).ravel()[:: max(1, plane.size // _SAMPLES)] / unit)
    high = float(np.arcsinh(max(float(plane.max()), 4 * unit) / unit))
    counts, _ = np.histogram(values, bins=_BINS, range=(_LOW, high))
    return Histogram(unit, _LOW, high, tuple(counts.tolist()))

"""Star lists of stacks and how they match, remembered by the hashes of the files."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any, Final

import numpy as np
from pydantic import TypeAdapter

from ...core.align.match import Match
from ...core.align.models import Warp
from ...core.align.stack import StarList, match_lists, star_list
from ...core.clean.continuum import Continuum
from ...core.files import read_picture
from ...core.model.measures import Stars
from ...core.model.planes import Picture
from ...core.model.progress import SILENT, Progress
from ..project.cache import DAMAGED, MATCHES
from ..project.door import Door
from ..project.state import SourceState
from ..project.store import Store
from .prepared import Prepared

FORMAT: Final = 3
"""Of what is remembered, and of what is made of it; a new one forgets the old."""
_MOST_BYTES: Final = 64_000_000
"""More than the list of a hundred thousand stars takes."""


@cache
def _found() -> TypeAdapter[Stars | None]:
    return TypeAdapter(Stars | None)


def remembered_match(
    store: Store, reference: SourceState, source: SourceState, progress: Progress = SILENT
) -> Match | None:
    """The match of two stacks, remembered by their hashes."""
    known = known_match(store, reference, source)
    if known is not None:
        return known
    path = _match_path(store, reference, source)
    lists = [
        remembered_stars(store, reference),
        remembered_stars(store, source, progress.part(0, 0.8)),
    ]
    found = match_lists(
        lists[0], lists[1], Picture(np.zeros((1, 1), np.float32), file=Path(source.path))
    )
    _save(
        path,
        {
            "model": found.warp.model,
            "terms": found.warp.terms,
            "centre": found.warp.centre,
            "size": found.warp.size,
            "mirror": found.mirror,
            "scale": found.scale,
            "angle": found.angle_deg,
            "matches": found.matches,
            "rms": found.rms_px,
            "score": found.score,
            "one": found.pairs[0],
            "two": found.pairs[1],
        },
    )
    return found


def known_match(store: Store, reference: SourceState, source: SourceState) -> Match | None:
    """The match of two stacks where it is remembered."""
    if not (reference.hash and source.hash):  # not named by their content yet
        return None
    return _load_match(_match_path(store, reference, source))


def has_match(store: Store, reference: SourceState, source: SourceState) -> bool:
    """Whether it is remembered how two stacks match."""
    return _is_there(_match_path(store, reference, source))


def _match_path(store: Store, reference: SourceState, source: SourceState) -> Path:
    name = hashlib.sha256(f"{FORMAT} {reference.hash} {source.hash}".encode()).hexdigest()[:24]
    return store.cache / MATCHES / f"{name}.npz"


def _load_match(path: Path) -> Match | None:
    try:
        with _opened(path) as f:
            warp = Warp(
                str(f["model"]),
                f["terms"],
                (float(f["centre"][0]), float(f["centre"][1])),
                float(f["size"]),
            )
            return Match(
                warp,
                bool(f["mirror"]),
                float(f["scale"]),
                float(f["angle"]),
                int(f["matches"]),
                float(f["rms"]),
                float(f["score"]),
                (f["one"], f["two"]),
            )
    except DAMAGED:
        return None


def remembered_stars(store: Store, source: SourceState, progress: Progress = SILENT) -> StarList:
    """The stars of a stack, remembered by its hash."""
    path = _stars_path(store, source)
    try:
        with _opened(path) as f:
            points = f["x"], f["y"]
            found = _found().validate_json(str(f["found"]))
            return StarList(points, f["flux"], source.shape, float(f["width"]), found)
    except DAMAGED:
        pass
    stars = star_list(read_picture(Path(source.path)), progress)
    _save(
        path,
        {
            "x": stars.points[0],
            "y": stars.points[1],
            "flux": stars.flux,
            "width": stars.width_px,
            "found": _found().dump_json(stars.found).decode(),
            "count": stars.found.count if stars.found is not None else 0,
        },
    )
    return stars


def known_count(store: Store, source: SourceState) -> int | None:
    """How many stars of a stack were found, where they were sought."""
    try:
        with _opened(_stars_path(store, source)) as f:
            return int(f["count"])
    except DAMAGED:
        return None


def known_stars(store: Store, source: SourceState) -> Stars | None:
    """All stars of a stack in its own pixels, where they were found already."""
    path = _stars_path(store, source)
    try:
        with _opened(path) as f:
            return _found().validate_json(str(f["found"]))
    except DAMAGED:
        return None


def mark_seen(store: Store, sources: Iterable[SourceState]) -> None:
    """Remember that stacks were prepared once: again it is quick."""
    for source in sources:
        if not has_seen(store, source):
            _save(_seen_path(store, source), {"seen": True})


def has_seen(store: Store, source: SourceState) -> bool:
    """Whether a stack was prepared before."""
    return _is_there(_seen_path(store, source))


def _seen_path(store: Store, source: SourceState) -> Path:
    return store.cache / MATCHES / f"seen-{FORMAT}-{source.hash[:24]}.npz"


def _stars_path(store: Store, source: SourceState) -> Path:
    return store.cache / MATCHES / f"stars-{FORMAT}-{source.hash[:24]}.npz"


def remembered_continuum(
    store: Store, line: Prepared, broad: Prepared, find: Callable[[], Continuum]
) -> tuple[float, int]:
    """How much of a broadband channel lies in a line, and the stars that told it, remembered by
    both. Raises what ``find`` raises.
    """
    name = hashlib.sha256(f"{FORMAT} continuum {line.key} {broad.key}".encode()).hexdigest()[:24]
    path = store.cache / MATCHES / f"{name}.npz"
    try:
        with _opened(path) as f:
            return float(f["k"]), int(f["stars"])
    except DAMAGED:
        pass
    found = find()
    _save(path, {"k": max(found.k, 0.0), "stars": found.stars})
    return max(found.k, 0.0), found.stars


def _save(path: Path, values: dict[str, Any]) -> None:
    """Whole or not at all; a full disk costs only the memory of it."""
    cache = path.parent.parent
    with suppress(OSError):
        place = (cache.name, MATCHES, path.name)
        with Door(cache.parent).writing(*place, sync=False) as partial:
            np.savez(partial, **values)


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    """The arrays of what is remembered. Raises anything where it is not whole."""
    cache = path.parent.parent
    found = Door(cache.parent).read(cache.name, MATCHES, path.name, most=_MOST_BYTES)
    with np.load(io.BytesIO(found), allow_pickle=False) as arrays:
        yield arrays


def _is_there(path: Path) -> bool:
    cache = path.parent.parent
    return Door(cache.parent).exists(cache.name, MATCHES, path.name)

"""Star lists of stacks and how they match, remembered by the hashes of the files."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

import numpy as np

from ...core.align.match import Match
from ...core.align.models import Warp
from ...core.align.stack import StarList, match_lists, star_list
from ...core.clean.continuum import Continuum
from ...core.files import read_picture
from ...core.model.planes import Picture
from ..project.cache import DAMAGED, MATCHES
from ..project.state import SourceState
from ..project.store import Store
from .prepared import Prepared

FORMAT: Final = 2
"""Of what is remembered, and of what is made of it; a new one forgets the old."""


def remembered_match(store: Store, reference: SourceState, source: SourceState) -> Match | None:
    """The match of two stacks, remembered by their hashes."""
    name = hashlib.sha256(f"{FORMAT} {reference.hash} {source.hash}".encode()).hexdigest()[:24]
    path = store.cache / MATCHES / f"{name}.npz"
    known = _load_match(path)
    if known is not None:
        return known
    lists = [remembered_stars(store, s) for s in (reference, source)]
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


def _load_match(path: Path) -> Match | None:
    try:
        with np.load(path, allow_pickle=False) as f:
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


def remembered_stars(store: Store, source: SourceState) -> StarList:
    """The stars of a stack, remembered by its hash."""
    path = store.cache / MATCHES / f"stars-{source.hash[:24]}.npz"
    try:
        with np.load(path, allow_pickle=False) as f:
            return StarList((f["x"], f["y"]), f["flux"], source.shape, float(f["width"]))
    except DAMAGED:
        pass
    found = star_list(read_picture(Path(source.path)))
    _save(
        path,
        {"x": found.points[0], "y": found.points[1], "flux": found.flux, "width": found.width_px},
    )
    return found


def remembered_continuum(
    store: Store, line: Prepared, broad: Prepared, find: Callable[[], Continuum]
) -> tuple[float, int]:
    """How much of a broadband channel lies in a line, and the stars that told it, remembered by
    both. Raises what ``find`` raises.
    """
    name = hashlib.sha256(f"{FORMAT} continuum {line.key} {broad.key}".encode()).hexdigest()[:24]
    path = store.cache / MATCHES / f"{name}.npz"
    try:
        with np.load(path, allow_pickle=False) as f:
            return float(f["k"]), int(f["stars"])
    except DAMAGED:
        pass
    found = find()
    _save(path, {"k": max(found.k, 0.0), "stars": found.stars})
    return max(found.k, 0.0), found.stars


def _save(path: Path, values: dict[str, Any]) -> None:
    """Whole or not at all; a full disk costs only the memory of it."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        partial = path.with_name(f".{path.name}.partial.npz")
        np.savez(partial, **values)
        partial.replace(path)
    except OSError:
        pass

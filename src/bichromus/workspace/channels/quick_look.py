"""A quick look at stacks that nobody has prepared yet: small, rough, in a moment. It is shown until
the true channels are there, and nothing is judged, advised, kept or published by it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Final, TypeVar

import cv2
import numpy as np

from ...core.align.match import match
from ...core.align.models import Warp
from ...core.blend.companions import half_size
from ...core.extract import load_response
from ...core.extract.unmix import apply_unmixing, least_squares
from ...core.measure.rough import rough_measure, rough_stars
from ...core.model.channel import channel_order
from ...core.model.errors import InputError, NotEnoughData
from ...core.model.planes import F32, Mask
from ...core.model.progress import SILENT, Progress
from ...core.numerics.robust import step_sigma
from ...core.numerics.smoothing import fill
from ...core.numerics.surface import low_surface
from ..project.responses import find_response
from ..project.state import PreparationState, SourceState
from ..project.store import Store
from ..work.together import THREADS, side_by_side
from .build import Channels
from .coarse import Coarse, read_coarse
from .matches import has_seen, known_match
from .notes import Notes
from .origin import Origin
from .prepared import Prepared
from .registration import suggest_reference
from .sources import RGB, bytes_of

T = TypeVar("T")
_Map = tuple[np.ndarray, np.ndarray]
_Rig = tuple[str, tuple[int, int]]
_LARGEST_SHARE: Final = 1e30
_SMALLEST_PX: Final = 400
_EDGE_PX: Final = 90.0  # over which a stack fades into the others
_LARGE: Final = 10e9
"""Bytes that preparing takes from which reading all stacks coarsely takes over a second."""
_FLUX_SHARE: Final = 0.97  # quantile of light by which two stacks are brought to one brightness


@dataclass(frozen=True)
class _Line:
    """A channel of one stack on the common small grid, its sky at 0, NaN where it was not seen."""

    source: SourceState
    plane: F32
    sigma: float


def is_new(store: Store, wanted: PreparationState) -> bool:
    """Whether some stack was never prepared, so that it will take a while."""
    stacks = [s for s in wanted.sources if not s.preliminary and s.sure]
    return any(not has_seen(store, s) for s in stacks)


def quick_look(
    store: Store,
    wanted: PreparationState,
    progress: Progress,
    show: Callable[[Channels], None] | None = None,
) -> Channels | None:
    """Rough channels of all stacks that can be seen and laid on each other in a moment; None where
    there is none. Where they are large, ``show`` gets those of the first few before. Raises
    Cancelled.
    """
    stacks = [s for s in wanted.sources if not s.preliminary]
    if not stacks:
        return None
    named = wanted.reference or suggest_reference(stacks)
    stacks.sort(key=lambda s: s.id != named)  # all are laid on the grid of the first
    seen: list[Coarse] = []
    share = 0.0
    if show is not None and len(stacks) > THREADS and sum(map(bytes_of, stacks)) > _LARGE:
        share = THREADS / len(stacks)
        seen += _read(stacks[:THREADS], progress.part(0, share))
        few = _looked_at(store, wanted, seen)
        if few is not None:
            show(few)
        stacks = stacks[THREADS:]
    seen += _read(stacks, progress.part(share, 1))
    return _looked_at(store, wanted, seen)


def _read(stacks: Sequence[SourceState], progress: Progress) -> list[Coarse]:
    """Stacks read coarsely, without those that cannot be read."""

    def read(source: SourceState, part: Progress) -> Coarse | None:
        part.step(0.0, f"a quick look at {source.label}")
        with contextlib.suppress(InputError):
            return read_coarse(source)
        return None

    pieces = [partial(read, s) for s in stacks]
    found = side_by_side(pieces, progress, [bytes_of(s) / 4 for s in stacks])
    return [c for c in found if c is not None]


def _looked_at(store: Store, wanted: PreparationState, seen: Sequence[Coarse]) -> Channels | None:
    """Rough channels of stacks, on the grid of the first."""
    if not seen:
        return None
    lines = _all_lines(store, wanted, seen)
    names = sorted(lines, key=channel_order)
    done = _at_once([partial(_prepared, n, lines[n]) for n in names])
    if not done:
        return None
    return Channels({p.id: p for p in done}, {p.channel: p.id for p in done}, rough=True)


def _all_lines(
    store: Store, wanted: PreparationState, stacks: Sequence[Coarse]
) -> dict[str, list[_Line]]:
    """Every channel of stacks on the small grid of the first, by name."""
    grid = stacks[0]
    firsts: dict[_Rig, Coarse] = {}
    for coarse in stacks:  # a rig's stacks lie alike, but for a little
        firsts.setdefault(_rig_of(coarse), coarse)
    found = _at_once([partial(_map_of, store, grid, c) for c in firsts.values()])
    maps = dict(zip(firsts, found, strict=True))

    def of(coarse: Coarse) -> list[tuple[str, _Line]]:
        laid = _laid(grid, coarse, maps[_rig_of(coarse)])
        if laid is None:
            return []
        try:
            planes = _lines_of(store, wanted, coarse.source, laid)
        except InputError:  # a response that does not fit is told later
            return []
        return [(name, _line(coarse.source, plane)) for name, plane in planes.items()]

    lines: dict[str, list[_Line]] = {}
    for one in _at_once([partial(of, c) for c in stacks]):
        for name, line in one:
            lines.setdefault(name, []).append(line)
    return lines


def _at_once(pieces: Sequence[Callable[[], T]]) -> list[T]:
    """What small pieces give, side by side: none of them takes memory to speak of."""

    def run(piece: Callable[[], T], _progress: Progress) -> T:
        return piece()

    return side_by_side([partial(run, p) for p in pieces], SILENT, [0.0] * len(pieces))


def _rig_of(coarse: Coarse) -> _Rig:
    return coarse.source.eye, coarse.source.shape


def _line(source: SourceState, plane: F32) -> _Line:
    """A plane (H, W), NaN where it was not seen, with its sky at 0 and its noise."""
    unseen = ~np.isfinite(plane)
    whole = fill(plane, unseen)
    sigma = max(step_sigma(whole), 1e-30)
    whole = whole - low_surface(whole, ~unseen).rows(0, plane.shape[0])
    return _Line(source, np.where(unseen, np.float32(np.nan), whole), sigma)


def _map_of(store: Store, grid: Coarse, coarse: Coarse) -> _Map | None:
    """How a stack lies on the small grid; None where it cannot be told."""
    if coarse is grid:
        return _pixels(grid.shape)
    known = known_match(store, grid.source, coarse.source)
    try:
        return _between(known.warp, grid, coarse) if known else _matched(grid, coarse)
    except NotEnoughData:
        return _pixels(grid.shape) if coarse.shape == grid.shape else None


def _laid(grid: Coarse, coarse: Coarse, at: _Map | None) -> F32 | None:
    """The planes of a stack on the small grid."""
    if at is None or coarse is grid:
        return coarse.planes if at is not None else None
    u, v = (a.astype(np.float32) for a in at)
    edge, nothing = cv2.BORDER_CONSTANT, float("nan")
    return np.stack(
        [
            cv2.remap(p, u, v, cv2.INTER_LINEAR, borderMode=edge, borderValue=nothing)
            for p in coarse.planes
        ]
    )


def _pixels(shape: tuple[int, int]) -> _Map:
    x, y = np.meshgrid(np.arange(shape[1], dtype=float), np.arange(shape[0], dtype=float))
    return x, y


def _between(warp: Warp, grid: Coarse, coarse: Coarse) -> _Map:
    """Where the small grid's pixels lie in a small stack, by the map between both at full size."""
    x, y = (p * grid.factor + (grid.factor - 1) / 2 for p in _pixels(grid.shape))
    u, v = warp(x, y)
    return tuple((p - (coarse.factor - 1) / 2) / coarse.factor for p in (u, v))  # type: ignore[return-value]


def _matched(grid: Coarse, coarse: Coarse) -> _Map:
    """The same by the stars of both. Raises NotEnoughData."""
    (ours, light), (theirs, other) = (rough_stars(c.light) for c in (grid, coarse))
    found = match(ours, theirs, light, other, grid.shape, coarse.shape)
    return found.warp(*_pixels(grid.shape))


def _lines_of(
    store: Store, wanted: PreparationState, source: SourceState, planes: F32
) -> dict[str, F32]:
    """The channels in the planes of a stack. Raises InputError."""
    if len(planes) == 1:
        return {source.lines[0]: planes[0]}
    if source.lines == RGB:
        return dict(zip(RGB, planes, strict=True))
    response = load_response(find_response(store, wanted.response_of(source.eye)))
    sigma = np.array([max(step_sigma(fill(p, ~np.isfinite(p))), 1e-30) for p in planes])
    weights, _ = least_squares(response.matrix(source.lines), sigma)
    return dict(zip(source.lines, apply_unmixing(planes, weights), strict=True))


def _prepared(name: str, lines: Sequence[_Line]) -> Prepared:
    """A rough channel: all of its stacks in one brightness, each by its noise."""
    first = lines[0]
    total, weight = np.zeros_like(first.plane), np.zeros_like(first.plane)
    for line in lines:
        flux = _flux(first.plane, line.plane) if line is not first else 1.0
        share = (flux / line.sigma) ** 2
        if flux <= 0 or not 0 < share < _LARGEST_SHARE:  # of a plane that is no light
            continue
        seen = np.float32(share) * _soft(np.isfinite(line.plane))
        total += seen / np.float32(flux) * np.nan_to_num(line.plane)
        weight += seen
    plane = fill(np.asarray(total / np.maximum(weight, 1e-30), np.float32), weight == 0)
    measure = rough_measure(plane, name)
    levels = [plane]
    while max(levels[-1].shape) > _SMALLEST_PX:
        levels.append(half_size(levels[-1]))
    stacks = tuple(line.source.id for line in lines)
    hours = sum(line.source.hours or 0.0 for line in lines) or None
    label = first.source.label if len(lines) == 1 else f"{len(lines)} stacks"
    return Prepared(
        f"rough {name} {' '.join(stacks)}",
        Origin("plane", name, stacks),
        f"{label}, a quick look",
        measure,
        tuple(levels),
        hours,
        Notes(),
    )


def _soft(seen: Mask) -> F32:
    """How much a stack counts at each place: less towards its edges, so that none is seen."""
    framed = np.pad(seen.astype(np.uint8), 1)  # the frame itself is an edge for those beside it
    away = cv2.distanceTransform(framed, cv2.DIST_L2, 3)[1:-1, 1:-1]
    return np.asarray(np.minimum(away / np.float32(_EDGE_PX), 1), np.float32)


def _flux(reference: F32, plane: F32) -> float:
    """How bright a plane is over a reference, where that is bright."""
    both = np.isfinite(reference) & np.isfinite(plane)
    if not both.any():
        return 0.0
    bright = both & (reference >= np.quantile(reference[both], _FLUX_SHARE))
    a, b = reference[bright].astype(float), plane[bright].astype(float)
    return float((a * b).sum() / max((a * a).sum(), 1e-30))

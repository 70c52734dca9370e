"""Subs of one channel and night laid on each other and stacked quickly, to see what is there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from ..align.rigid import Rigid, match_rigid
from ..files.frames import Frame
from ..measure.centroids import centroids
from ..measure.subs import SubMeasure, middle_of
from ..model.errors import NotEnoughData
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from .quick import FrameLayer, quick_stack

_STARS: Final = 60
"""Stars that place a sub: the brightest, enough for a shift and a turn to a fraction of a cell."""
_USUAL_FWHM_PX: Final = 3.0
_COLOUR_SPARSE: Final = 5


@dataclass(frozen=True)
class SubInput:
    """A sub to be stacked: its frame, what was measured of it, its light over that of good subs and
    its weight.
    """

    name: str
    frame: Frame
    measure: SubMeasure
    light: float
    weight: float


@dataclass(frozen=True)
class ReferenceSub:
    """Stars of the reference, in the frame's cells, and its size (H, W) in cells."""

    stars: tuple[np.ndarray, np.ndarray]
    shape: tuple[int, int]


@dataclass(frozen=True)
class StackedSubs:
    """The stack (H, W), or (3, H, W) of mosaics; the subs in it, the names of those whose stars do
    not fit, the share of pixels that were rejected.
    """

    data: F32
    used: tuple[SubInput, ...]
    left_out: tuple[str, ...]
    rejected: float


def reference_sub(sub: SubInput) -> ReferenceSub:
    """The brightest stars of a sub to a fraction of a cell."""
    frame, measure = sub.frame, sub.measure
    cell = frame.cell
    shape = frame.shape[0] // cell, frame.shape[1] // cell
    y0, y1, x0, x1 = middle_of(shape)
    plane = frame.reduced(cell, y0 * cell, y1 * cell, x0 * cell, x1 * cell)
    good = np.isfinite(measure.flux)  # neither at the edge nor saturated
    px, py = (v[good][:_STARS].astype(float) for v in measure.places)
    x, y, _ = centroids(plane, px, py, measure.fwhm_px or _USUAL_FWHM_PX)
    found = np.isfinite(x)
    return ReferenceSub((x[found] + x0, y[found] + y0), shape)


def stack_subs(
    subs: Sequence[SubInput], anchor: ReferenceSub, progress: Progress = SILENT
) -> StackedSubs:
    """Stack subs on the anchor's grid, each by its weight. Raises NotEnoughData where none fits,
    Cancelled.
    """
    placed: list[tuple[SubInput, Rigid]] = []
    left_out = []
    for number, sub in enumerate(subs):
        progress.step(0.4 * number / len(subs), f"finding the stars of {sub.name}")
        here = reference_sub(sub)
        place = match_rigid(anchor.stars, here.stars) if here.shape == anchor.shape else None
        if place is None:
            left_out.append(sub.name)
        else:
            placed.append((sub, place))
    if not placed:
        raise NotEnoughData(
            "The subs cannot be laid on each other",
            why="their stars do not agree",
            do="Look at them in Subs: another target may be among them",
        )
    colours = "RGB" if placed[0][0].frame.cell == 2 else " "
    planes = []
    for number, colour in enumerate(colours):
        part = progress.part(
            0.4 + 0.55 * number / len(colours), 0.4 + 0.55 * (number + 1) / len(colours)
        )
        planes.append(_plane(placed, colour.strip(), anchor.shape, part))
    data = planes[0][0] if len(planes) == 1 else np.stack([p[0] for p in planes])
    rejected = float(np.mean([p[1] for p in planes]))
    return StackedSubs(data, tuple(s for s, _ in placed), tuple(left_out), rejected)


def _plane(
    placed: Sequence[tuple[SubInput, Rigid]],
    colour: str,
    shape: tuple[int, int],
    progress: Progress,
) -> tuple[F32, float]:
    layers = []
    level = 0.0
    for sub, place in placed:
        seen, phase = _colour_plane(sub.frame, colour) if colour else (sub.frame, (0.0, 0.0))
        sky = float(np.nanmedian(seen.sparse(_COLOUR_SPARSE))) if colour else sub.measure.background
        level += sky / len(placed)
        layers.append(
            FrameLayer(
                seen.shape,
                seen.region,
                place,
                sky,
                sub.measure.noise,
                sub.light,
                sub.weight,
                phase,
            )
        )
    made = quick_stack(layers, shape, progress)
    return np.asarray(made.data + np.float32(level), np.float32), made.rejected


def _colour_plane(frame: Frame, colour: str) -> tuple[Frame, tuple[float, float]]:
    """One colour of a mosaic as a frame of its own, and where it samples against the means of its
    cells.
    """
    pattern = frame.header.bayer or "RGGB"
    if colour == "G":
        # the two greens as planes whose mean is taken; together they lie in the middle of the cell
        first, second = (divmod(n, 2) for n in range(4) if pattern[n] == "G")
        height, width = (n // 2 for n in frame.shape)
        both = [frame.stored[0, y::2, x::2][:height, :width] for y, x in (first, second)]
        empty = np.empty((2, height, width))
        return _Pair(frame.path, empty, frame.scale, frame.zero, frame.header, *both), (0.0, 0.0)
    y, x = divmod(pattern.index(colour), 2)
    one = replace(frame, stored=frame.stored[:, y::2, x::2])
    return one, (0.25 - x / 2, 0.25 - y / 2)


@dataclass(frozen=True)
class _Pair(Frame):
    """The mean of two planes that are not copied; ``stored`` only tells the size."""

    one: np.ndarray
    two: np.ndarray

    def region(self, y0: int, y1: int, x0: int = 0, x1: int | None = None) -> F32:
        part = (slice(max(y0, 0), max(y1, y0)), slice(max(x0, 0), x1))
        mean = (self.one[part].astype(np.float32) + self.two[part].astype(np.float32)) / 2
        return np.asarray(mean * np.float32(self.scale) + np.float32(self.zero), np.float32)

    def sparse(self, step: int) -> F32:
        one = self.one[::step, ::step].astype(np.float32)
        return one * np.float32(self.scale) + np.float32(self.zero)

"""Finished pictures from elsewhere laid on a grid by their stars: of another rig, mirrored, turned,
made smaller, stretched in any way.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..measure.centroids import centroids
from ..measure.stars import find_stars
from ..model.errors import NotEnoughData
from ..model.planes import F32
from ..numerics.bands import row_bands
from .match import FEWEST, Match, match
from .models import F64, Points, Warp, choose
from .stack import StarList

RGB8 = NDArray[np.uint8]
_MOST: Final = 1200
_LARGE: Final = 9_000_000  # pixels, above which stars are sought in the half
_RATIOS: Final = (1.0, 2.0)
"""How much finer a picture may be than both frames' sizes say: where it is a part of the field."""
_WORST_PX: Final = 1.5
"""RMS in pixels of the grid, above which a picture does not lie on it."""
_ROWS: Final = 512


@dataclass(frozen=True)
class Lying:
    """How a picture lies on the grid: ``warp`` leads from the grid's pixels to its own; ``scale``
    counts its pixels per pixel of the grid, ``rms_px`` is in those of the grid.
    """

    warp: Warp
    mirror: bool
    scale: float
    angle_deg: float
    stars: int
    rms_px: float


def stars_of(plane: F32) -> StarList:
    """Stars of a finished picture's plane (H, W), the brightest first. Raises NotEnoughData."""
    factor = 2 if plane.size > _LARGE else 1
    small = plane
    if factor > 1:
        half = cv2.resize(plane, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        small = np.asarray(half, np.float32)
    found = find_stars(small, None, _MOST)
    if found.count < FEWEST:
        raise NotEnoughData(
            "There are too few stars in this picture",
            why=f"{found.count} found",
            do="Give one that shows the field's stars",
        )
    width = (found.fwhm_px or 3.0) * factor
    x, y = (np.array(v, float) * factor + (factor - 1) / 2 for v in (found.x, found.y))
    cx, cy, light = centroids(plane, x, y, width)
    good = np.isfinite(cx) & (light > 0)
    order = np.argsort(light[good])[::-1]
    shape = int(plane.shape[0]), int(plane.shape[1])
    return StarList((cx[good][order], cy[good][order]), light[good][order], shape, width)


def lay(grid: StarList, theirs: StarList) -> Lying:
    """How a picture with these stars lies on a grid. Raises NotEnoughData, with the reason."""
    frames = float(np.hypot(*theirs.shape) / np.hypot(*grid.shape))
    wanted = [frames * r for r in _RATIOS]
    if not any(0.5 < w < 2 for w in wanted):
        wanted.append(1.0)  # as fine as the grid
    refusal: NotEnoughData | None = None
    for ratio in wanted:
        try:
            found = _matched(grid, theirs, ratio)
        except NotEnoughData as error:
            refusal = refusal or error
            continue
        if not found.doubtful:
            return _refined(grid, theirs, found)
        refusal = refusal or NotEnoughData(
            "This picture cannot be laid on the others for sure",
            why=f"{found.matches} stars agree, and chance may do as well",
            do="Give one that shows more of the same field",
        )
    assert refusal is not None
    raise refusal


def _matched(grid: StarList, theirs: StarList, ratio: float) -> Match:
    """Both star lists matched, with the grid's made ``ratio`` times as large."""
    x, y = (v * ratio for v in grid.points)
    shape = round(grid.shape[0] * ratio), round(grid.shape[1] * ratio)
    return match((x, y), theirs.points, grid.flux, theirs.flux, shape, theirs.shape)


def _refined(grid: StarList, theirs: StarList, found: Match) -> Lying:
    """The map in the grid's own pixels."""
    first, second = found.pairs
    output, source = (_cut(p, i) for p, i in ((grid.points, first), (theirs.points, second)))
    warp, keep, rms = choose(output, source, found.mirror)
    middle = float(output[0].mean()), float(output[1].mean())
    j = warp.jacobian(*middle)
    scale = float(np.sqrt(abs(np.linalg.det(j))))
    if rms / scale > _WORST_PX:
        raise NotEnoughData(
            "This picture does not lie on the others",
            why=f"its stars are off by {rms / scale:.1f} px",
            do="Check that it shows the same field, and was not warped",
        )
    angle = float(np.rad2deg(np.arctan2(j[1, 0], j[0, 0])))
    return Lying(warp, found.mirror, scale, angle, int(np.sum(keep)), rms / scale)


def _cut(points: Points, keep: NDArray[np.intp]) -> tuple[F64, F64]:
    return points[0][keep], points[1][keep]


def on_grid(pixels: RGB8, lying: Lying, shape: tuple[int, int]) -> RGB8:
    """The picture on a grid of ``shape`` (H, W), black beside it, (h, w, 3): as fine as it is
    itself, never finer than the grid.
    """
    scale = min(lying.scale, 1.0)
    height, width = max(round(shape[0] * scale), 1), max(round(shape[1] * scale), 1)
    source, shrunk = _shrunk(pixels, lying.scale)
    out = np.zeros((height, width, 3), np.uint8)
    x = (np.arange(width) + 0.5) * shape[1] / width - 0.5
    for y0, y1 in row_bands(height, _ROWS):
        y = (np.arange(y0, y1) + 0.5) * shape[0] / height - 0.5
        gx, gy = np.meshgrid(x, y)
        u, v = lying.warp(gx, gy)
        out[y0:y1] = cv2.remap(
            source,
            ((u + 0.5) / shrunk - 0.5).astype(np.float32),
            ((v + 0.5) / shrunk - 0.5).astype(np.float32),
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_CONSTANT,
        )
    return out


def _shrunk(pixels: RGB8, scale: float) -> tuple[RGB8, float]:
    """A picture finer than the grid made smaller first, so that nothing is lost between pixels."""
    factor = int(scale + 0.25)
    if factor < 2:
        return pixels, 1.0
    size = (pixels.shape[1] // factor, pixels.shape[0] // factor)
    cut = pixels[: size[1] * factor, : size[0] * factor]
    return np.asarray(cv2.resize(cut, size, interpolation=cv2.INTER_AREA), np.uint8), float(factor)

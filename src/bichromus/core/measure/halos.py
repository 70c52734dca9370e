"""Cores that are full, and the discs that filters throw back around bright stars."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.robust import low_of_groups

_RING_PX: Final = 2.0
_FURTHEST_PX: Final = 80
_LOW, _FEWEST = 0.35, 4
"""Quantile that is the level of a quarter of a ring, and pixels that tell it: others' stars are
bright.
"""
_MOST: Final = 24
_BRIGHT: Final = 4  # full pixels of a star whose halo can be seen
_ABOVE: Final = 2.2  # how many times its light is above what lies outside
_FLAT: Final = 1.7  # how many times its light is that of its edge, halfway in
_EDGE: Final = 0.75
"""Of the highest edge, that the furthest of a halo has at least: nebula has low ones outside."""
_ROUND: Final = 0.45  # share of the drop that every quarter must show
_CLEAR: Final = 8.0  # and how many sigma above the sky
_FULL: Final = 0.95  # of the top value
_GLARE: Final = (3.0, 0.1)  # sigma of a ring's mean, and of a pixel: light above the far sky


@dataclass(frozen=True)
class Core:
    """A star whose core is full: place and size in px; ``halo_px`` is the radius of the disc around
    it, 0 for none.
    """

    x: float
    y: float
    pixels: int
    halo_px: float

    @property
    def radius(self) -> float:
        """Of a disc of its pixels."""
        return float(np.sqrt(self.pixels / np.pi))


def saturated_cores(plane: F32, top: float | None, fwhm_px: float, sigma: float) -> list[Core]:
    """The largest cores at or above 0.95 of ``top``, with their halos. ``plane`` (H, W) is finite,
    its sky at 0.
    """
    return [
        replace(c, halo_px=_halo(plane, c.x, c.y, fwhm_px, sigma)) if c.pixels >= _BRIGHT else c
        for c in full_cores(plane, top)
    ]


def full_cores(plane: F32, top: float | None, sky: float = 0.0) -> list[Core]:
    """The same without their halos, the largest first; on a ``sky`` that is in both."""
    if top is None:
        return []
    at = np.flatnonzero(plane >= np.float32(sky + _FULL * (top - sky)))
    if not len(at):
        return []
    y, x = np.divmod(at, plane.shape[1])
    body = _bodies(at, x, plane.shape[1])
    sizes = np.bincount(body)
    left, up = (np.bincount(body, p) / sizes for p in (x, y))
    largest = np.argsort(-sizes, kind="stable")[:_MOST]
    return [Core(float(left[n]), float(up[n]), int(sizes[n]), 0.0) for n in largest]


def _bodies(at: NDArray[np.intp], x: NDArray[np.intp], width: int) -> NDArray[np.int32]:
    """To which body pixels belong that touch by a side: ``at`` (N,) are their places on a plane so
    wide, in their order, ``x`` their columns. Of few pixels it is told sooner than of a plane.
    """
    beside = np.flatnonzero((np.diff(at) == 1) & (x[1:] != 0))
    below = np.searchsorted(at, at + width)
    there = below < len(at)
    there[there] = at[below[there]] == at[there] + width
    one = np.concatenate([beside, np.flatnonzero(there)])
    other = np.concatenate([beside + 1, below[there]])
    touch = scipy.sparse.coo_array((np.ones(len(one), bool), (one, other)), (len(at), len(at)))
    return np.asarray(scipy.sparse.csgraph.connected_components(touch, directed=False)[1], np.int32)


def glare_mask(
    plane: F32, top: float | None, fwhm_px: float, sigma: float, sky: float = 0.0
) -> Mask:
    """Discs around full cores, out to where their light is lost in what is around them. ``plane``
    is finite, its ``sky`` in all values.

    A star that is full is too flat to be found as a star, and its wings and halo outshine nebula
    far out.
    """
    out = np.zeros(plane.shape, np.uint8)
    for core in full_cores(plane, top, sky):
        level, counts = _rings(plane, core.x, core.y)
        mean = np.array(
            [
                np.median(v) if (v := column[np.isfinite(column)]).size else np.nan
                for column in level.T
            ]
        )
        far = float(np.nanmedian(mean[-8:]))
        above = np.nan_to_num(mean, nan=np.inf) - far > np.maximum(
            _GLARE[0] * sigma / np.sqrt(counts), _GLARE[1] * sigma
        )
        reach = int(np.argmin(above)) if not above.all() else len(above)
        cv2.circle(
            out,
            (round(core.x), round(core.y)),
            round(max((reach + 2) * _RING_PX, 3 * fwhm_px)),
            (1,),
            -1,
        )
    return out.astype(bool)


def _halo(plane: F32, x: float, y: float, fwhm_px: float, sigma: float) -> float:
    """Radius of the disc around a star: flat within, and ending at an edge on all four sides; 0
    where there is none.
    """
    level, counts = _rings(plane, x, y)
    start = int(2.5 * fwhm_px / _RING_PX)
    if np.isnan(level[:, start:]).any():
        return 0.0  # too near the edge to see all of it
    level = level - np.median(level[:, -6:])
    mean = level.mean(0)
    edges: list[tuple[float, float]] = []
    for r in range(level.shape[1] - 5, start + 6, -1):
        further, inside, outside = (
            float(mean[a:b].mean()) for a, b in ((r - 6, r - 4), (r - 3, r - 1), (r + 2, r + 4))
        )
        # a star's own wings fall all the way; a disc is flat first
        if (
            inside < _CLEAR * sigma / np.sqrt(counts[r])
            or further > _FLAT * inside
            or inside < _ABOVE * outside
        ):
            continue
        drop = level[:, r - 3 : r - 1].mean(1) - level[:, r + 2 : r + 4].mean(1)
        if (drop > _ROUND * (inside - outside)).all():
            edges.append(((r - 0.5) * _RING_PX, inside - outside))
    highest = max((height for _, height in edges), default=0.0)
    return next((radius for radius, height in edges if height >= _EDGE * highest), 0.0)


def _rings(plane: F32, x: float, y: float) -> tuple[np.ndarray, np.ndarray]:
    """The low level of rings about a star in each quarter (4, rings), and how many pixels a ring
    has.
    """
    reach = _FURTHEST_PX
    x0, y0 = max(int(x) - reach, 0), max(int(y) - reach, 0)
    part = plane[y0 : int(y) + reach + 1, x0 : int(x) + reach + 1]
    dx, dy = np.arange(part.shape[1]) + x0 - x, (np.arange(part.shape[0]) + y0 - y)[:, None]
    rings = int(reach / _RING_PX)
    ring = (np.hypot(dx, dy) / _RING_PX).astype(int)
    quarter = (dx > 0) + 2 * (dy > 0)
    near = ring < rings
    cell = quarter[near] * rings + ring[near]
    level = low_of_groups(part[near], cell, 4 * rings, _LOW, _FEWEST).reshape(4, rings)
    counts = np.bincount(ring[ring < rings], minlength=rings)
    return level, np.maximum(counts, 1)


def around(
    shape: tuple[int, ...], core: Core, reach: int
) -> tuple[tuple[slice, slice], NDArray[np.float64]]:
    """The box about a core on a plane of ``shape`` (H, W), and how far from it its pixels lie."""
    y0, x0 = max(int(core.y) - reach, 0), max(int(core.x) - reach, 0)
    box = (
        slice(y0, min(int(core.y) + reach + 1, shape[0])),
        slice(x0, min(int(core.x) + reach + 1, shape[1])),
    )
    dx = np.arange(box[1].start, box[1].stop) - core.x
    dy = (np.arange(box[0].start, box[0].stop) - core.y)[:, None]
    return box, np.hypot(dx, dy)


def halo_disc(rest: F32, core: Core) -> tuple[tuple[slice, slice], F32]:
    """The disc around a core: where it lies, and its light above what is around it, the same all
    around.

    ``rest`` is the plane without the model of the stars.
    """
    level, _ = _rings(rest, core.x, core.y)
    low = np.array(
        [np.median(v) if (v := column[np.isfinite(column)]).size else 0.0 for column in level.T]
    )
    edge = int(core.halo_px / _RING_PX)
    outside = float(np.nanmean(low[edge + 2 : edge + 6]))
    light = np.maximum(np.nan_to_num(low - outside), 0)
    # under the core the model of the star is not to be trusted: there the disc is as flat as it is
    # halfway out
    half = max(edge // 2, 1)
    light[:half] = np.median(light[half : edge + 1])
    light[edge + 3 :] = 0
    box, away = around(rest.shape, core, int(core.halo_px + 4 * _RING_PX))
    radius = (np.arange(len(light)) + 0.5) * _RING_PX
    return box, np.interp(away, radius, light).astype(np.float32)

"""A picture laid on another grid: cubic B-splines with a guard, in row bands; NaN where nothing was
seen.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask
from ..model.progress import SILENT, Progress
from ..numerics.bands import filtered, ordered_parallel, row_bands
from ..numerics.smoothing import fill
from ..numerics.spline import Guard, Padded, Spline
from .models import F64, Warp

_ROWS: Final = 32  # all that is reckoned of a band stays in the cache
_SATURATED: Final = 0.9
_PARTS: Final = (1.1, 1.5)
"""Scales up to which a pixel is sampled once, or two times two; above, three times three."""


@dataclass(frozen=True)
class Resampled:
    """``data`` on the output grid. ``noise_factor``: noise of a pixel over that of the source, for
    white noise; ``scale``: source pixels per output pixel.
    """

    data: F32
    noise_factor: float
    scale: float

    @property
    def coverage(self) -> float:
        """Share of the output that was seen."""
        return float(np.isfinite(self.data).mean())


def resample(
    plane: F32,
    warp: Warp,
    shape: tuple[int, int],
    sigma: float,
    saturation: float | None = None,
    corner: tuple[int, int] = (0, 0),
    progress: Progress = SILENT,
) -> Resampled:
    """Lay a plane (H, W) on a grid of ``shape`` whose pixel [0, 0] is ``corner`` (x, y) of the
    output.

    ``sigma`` is the source's noise of a pixel: the spline may undershoot the darkest neighbour by
    no more. Surface brightness is kept.
    """
    seen = np.isfinite(plane)
    filled = fill(np.nan_to_num(plane), ~seen) if not seen.all() else plane
    source = _guarded(filled, None if seen.all() else ~seen, sigma, saturation)
    j = warp.jacobian(corner[0] + shape[1] / 2, corner[1] + shape[0] / 2)
    scale = float(np.sqrt(abs(np.linalg.det(j))))
    parts = 1 if scale <= _PARTS[0] else 2 if scale <= _PARTS[1] else 3
    out = np.empty(shape, np.float32)

    def work(band: tuple[int, int]) -> tuple[int, int, F32]:
        return (*band, _band(source, warp, band, shape[1], corner, parts))

    for y0, y1, rows in ordered_parallel(work, row_bands(shape[0], _ROWS), 2):
        progress.step(y1 / shape[0], "laying over")
        out[y0:y1] = rows
    return Resampled(out, noise_factor(j, parts), scale)


def noise_factor(jacobian: F64, parts: int) -> float:
    """What white noise becomes: measured by sending it through the same spline at the same scale
    and turn.
    """
    noise = np.random.default_rng(7).standard_normal((192, 192)).astype(np.float32)
    spline = Spline(noise)
    side = int(np.clip(140 / max(float(np.abs(jacobian).sum(1).max()), 0.3), 24, 240))
    x, y = np.meshgrid(np.arange(side) - side / 2, np.arange(side) - side / 2)
    total = np.zeros(x.shape)
    for dx, dy in _offsets(parts):
        u = 96.31 + jacobian[0, 0] * (x + dx) + jacobian[0, 1] * (y + dy)
        v = 96.17 + jacobian[1, 0] * (x + dx) + jacobian[1, 1] * (y + dy)
        total += spline.at(spline.places(u.clip(0, 191), v.clip(0, 191)))
    return float((total / parts**2).std() / noise.std())


def _offsets(parts: int) -> list[tuple[float, float]]:
    steps = [(n + 0.5) / parts - 0.5 for n in range(parts)]
    return [(dx, dy) for dx in steps for dy in steps]


def _grown(missing: Mask) -> Mask:
    """Where a spline of 4 x 4 pixels would touch what is missing."""
    return np.asarray(cv2.dilate(missing.astype(np.uint8), np.ones((5, 5), np.uint8)), np.bool_)


def _guarded(plane: F32, missing: Mask | None, sigma: float, saturation: float | None) -> Guard:
    """The spline of a plane without holes; the least that it may be and the most at each pixel, the
    latter infinite where no full star is near; and where it must not be read.
    """
    shape = plane.shape[0], plane.shape[1]

    def least(inside: F32) -> None:
        _corner(cv2.erode, plane, inside)
        inside -= np.float32(sigma)

    most = None
    if saturation is not None and float(plane.max()) >= _SATURATED * saturation:
        about = np.ones((4, 4), np.uint8)
        full = cv2.dilate((plane >= _SATURATED * saturation).view(np.uint8), about, anchor=(1, 1))
        most = Padded.of(np.where(full > 0, _corner(cv2.dilate, plane), np.float32(np.inf)))
    grown = None if missing is None else Padded.of(_grown(missing).astype(np.float32))
    return Guard(Spline(plane), Padded(shape, least), most, grown)


def _band(
    source: Guard,
    warp: Warp,
    band: tuple[int, int],
    width: int,
    corner: tuple[int, int],
    parts: int,
) -> F32:
    x = np.arange(width, dtype=np.float64) + corner[0]
    y = np.arange(band[0], band[1], dtype=np.float64) + corner[1]
    total: F32 | None = None
    for dx, dy in _offsets(parts):
        found = source.at(*warp.grid(x + dx, y + dy))
        total = found if total is None else total + found
    assert total is not None
    return total / np.float32(parts * parts) if parts > 1 else total


def _corner(pick: Callable[..., object], plane: F32, into: F32 | None = None) -> F32:
    """The least or the most of each pixel and its right, lower and diagonal neighbours."""
    square = np.ones((2, 2), np.uint8)

    def picked(part: F32) -> F32:
        return np.asarray(pick(part, square, anchor=(0, 0)), np.float32)

    return filtered(plane, picked, 1, into)

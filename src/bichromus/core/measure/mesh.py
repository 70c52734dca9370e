"""Figures of a plane that change slowly over it, told in meshes: noise, and the grain of noise."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.robust import MAD_TO_SIGMA
from ..numerics.starlet import smooth

F64 = NDArray[np.float64]

_MESH: Final = 48
_SECOND_DIFFERENCE: Final = 6.0  # norm of [1 -2 1] x [1 -2 1]
_CALM: Final = 0.3  # quantile of the meshes by which the grain of the noise is told
_GRAIN: Final = (
    (0.8908, 0.9744, 1.092, 1.2816, 1.5669, 1.9727, 2.518),
    (1.0, 1.1227, 1.3043, 1.6173, 2.1324, 2.9491, 4.1914),
)
"""Of white noise smoothed by a Gaussian of 0 and .2 to .7 px: its finest starlet plane, and its
pixels, each over its second differences (integrals over their transfer functions).
"""


def mesh_medians(plane: F32, weight: Mask | None = None) -> F64:
    """Medians of a plane (H, W) in meshes of about 48 px, every second pixel: (rows, columns)."""
    cells = _cells(plane)
    if weight is None:
        return np.asarray(np.median(cells, axis=2), np.float64)
    use = _cells(weight)
    counted = np.where(use, cells, np.nan)
    empty = ~use.any(2)
    counted[empty] = cells[empty]
    return np.asarray(np.nanmedian(counted, axis=2), np.float64)


def _cells(plane: F32 | Mask) -> np.ndarray:
    height, width = plane.shape
    rows, columns = max(1, height // _MESH), max(1, width // _MESH)
    tall, across = height // rows // 2, width // columns // 2
    thin = plane[: rows * tall * 2 : 2, : columns * across * 2 : 2]
    return thin.reshape(rows, tall, columns, across).swapaxes(1, 2).reshape(rows, columns, -1)


def spread_out(grid: F64, shape: tuple[int, int]) -> F32:
    """Values of meshes as a smooth plane."""
    wide = cv2.resize(_calmed(grid), (shape[1], shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.maximum(np.asarray(wide, np.float32), np.float32(1e-30))


def mesh_at(grid: F64, x: F64, y: F64, shape: tuple[int, int]) -> F64:
    """Values of meshes at places (N,) of a plane (H, W)."""
    rows, columns = grid.shape
    row = np.clip(y * rows / shape[0], 0, rows - 1).astype(int)
    column = np.clip(x * columns / shape[1], 0, columns - 1).astype(int)
    return np.maximum(_calmed(grid)[row, column].astype(np.float64), 1e-30)


def _calmed(grid: F64) -> F32:
    small = np.asarray(grid, np.float32)
    return np.asarray(cv2.medianBlur(small, 3), np.float32) if min(small.shape) >= 3 else small


def second_differences(plane: F32) -> F32:
    """Of unit norm: blind to any nebula."""
    kernel = np.outer([1, -2, 1], [1, -2, 1]).astype(np.float32) / _SECOND_DIFFERENCE
    return np.asarray(
        cv2.filter2D(plane, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101), np.float32
    )


def noise_in_meshes(plane: F32, rough: F32, use: Mask | None = None) -> tuple[F64, float]:
    """Noise per pixel in meshes by ``rough``, the second differences of a plane, and its grain: by
    how much noise that a warp smoothed is stronger than they show.
    """
    grid = MAD_TO_SIGMA * mesh_medians(np.abs(rough), use)
    fine = MAD_TO_SIGMA * mesh_medians(np.abs(plane - smooth(plane, 0)), use)
    ratio = float(np.quantile(fine / np.maximum(grid, 1e-30), _CALM))
    grain = float(np.interp(ratio, *_GRAIN))
    return grid * grain, grain

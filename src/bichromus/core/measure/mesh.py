"""Figures of a plane that change slowly over it, told in meshes: noise, and the grain of noise."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.bands import ordered_parallel
from ..numerics.compiled import Compiled
from ..numerics.robust import MAD_TO_SIGMA
from ..numerics.starlet import smooth

F64 = NDArray[np.float64]

_MESH: Final = 48
_SECOND_DIFFERENCE: Final = 6.0  # norm of [1 -2 1] x [1 -2 1]
_BAND, _TAPS = 4, 2  # meshes told at once, and pixels that the taps of what tells them reach
_THREADS: Final = 2
_CALM: Final = 0.3  # quantile of the meshes by which the grain of the noise is told
_GRAIN: Final = (
    (0.8908, 0.9744, 1.092, 1.2816, 1.5669, 1.9727, 2.518),
    (1.0, 1.1227, 1.3043, 1.6173, 2.1324, 2.9491, 4.1914),
)
"""Of white noise smoothed by a Gaussian of 0 and .2 to .7 px: its finest starlet plane, and its
pixels, each over its second differences (integrals over their transfer functions).
"""


@dataclass(frozen=True)
class Meshes:
    """How a plane (H, W) is cut into meshes: how many, and how many pixels of them are looked at
    each way, one in ``every``.
    """

    rows: int
    columns: int
    tall: int
    across: int
    every: int

    @classmethod
    def of(cls, shape: tuple[int, ...], every: int = 2) -> Meshes:
        """Meshes of about 48 px."""
        rows, columns = (max(1, n // _MESH) for n in shape)
        tall, across = (
            max(n // k // every, 1) for n, k in zip(shape, (rows, columns), strict=True)
        )
        return cls(rows, columns, tall, across, every)

    def pixels(self, rows: slice, columns: slice, shape: tuple[int, int]) -> tuple[slice, slice]:
        """Rows and columns of pixels of some meshes; the last ones go on to the edge."""
        high, wide = self.tall * self.every, self.across * self.every
        y1 = shape[0] if rows.stop == self.rows else rows.stop * high
        x1 = shape[1] if columns.stop == self.columns else columns.stop * wide
        return slice(rows.start * high, y1), slice(columns.start * wide, x1)

    def medians(
        self, part: F32, count: tuple[int, int] | None = None, roughly: bool = False
    ) -> F64:
        """Medians of a part of the plane that holds ``count`` meshes; of all of it by default.
        ``roughly``: of an even number of values the upper middle one.
        """
        cells = self.cells(part, count)
        many = cells.shape[2]
        half = many // 2
        both = [half] if many % 2 or roughly else [half - 1, half]
        found = np.partition(cells, both, axis=2)[:, :, both[0] : half + 1]
        return np.asarray(found.mean(axis=2), np.float64)

    def cells(self, part: F32 | Mask, count: tuple[int, int] | None = None) -> np.ndarray:
        """The pixels that are looked at, mesh by mesh (rows, columns, n)."""
        rows, columns = count or (self.rows, self.columns)
        step = self.every
        thin = part[: rows * self.tall * step : step, : columns * self.across * step : step]
        cut = thin.reshape(rows, self.tall, columns, self.across)
        return cut.swapaxes(1, 2).reshape(rows, columns, -1)


def mesh_medians(plane: F32, weight: Mask | None = None) -> F64:
    """Medians of a plane (H, W) in meshes of about 48 px, every second pixel: (rows, columns)."""
    meshes = Meshes.of(plane.shape)
    if weight is None:
        return meshes.medians(plane)
    cells, use = meshes.cells(plane), meshes.cells(weight).copy()
    use[~use.any(2)] = True
    many = use.sum(2)
    ordered = np.sort(np.where(use, cells, np.float32(np.inf)), axis=2)
    both = np.stack([(many - 1) // 2, many // 2], axis=2)
    return np.asarray(np.take_along_axis(ordered, both, axis=2).mean(axis=2), np.float64)


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
    grain = _grain(grid, fine)
    return grid * grain, grain


def noise_grid(plane: F32) -> F64:
    """The noise per pixel of a plane (H, W) in meshes, told band by band."""
    shape = (plane.shape[0], plane.shape[1])
    meshes = Meshes.of(shape)
    thin = replace(meshes, every=1)
    bands = [slice(a, min(a + _BAND, meshes.rows)) for a in range(0, meshes.rows, _BAND)]

    def look(band: slice) -> tuple[F64, F64]:
        inside, _ = meshes.pixels(band, slice(0, meshes.columns), shape)
        count = band.stop - band.start, meshes.columns
        rough, fine = _looked_at(plane, inside.start, count[0] * meshes.tall, meshes)
        return thin.medians(rough, count), thin.medians(fine, count)

    found = list(ordered_parallel(look, iter(bands), _THREADS if len(bands) > 1 else 1))
    grid, fine = (MAD_TO_SIGMA * np.concatenate([f[i] for f in found]) for i in (0, 1))
    return grid * _grain(grid, fine)


def _looked_at(plane: F32, first: int, rows: int, meshes: Meshes) -> tuple[F32, F32]:
    """How much pixels stand out of their neighbours by the two measures of noise, at those that
    are looked at: so many rows of them from the ``first`` row of a plane on.
    """
    step = meshes.every
    columns = meshes.columns * meshes.across
    loop = _LOOP.get()
    if loop is not None and min(plane.shape) > 2 * _TAPS:
        rough, fine = (np.empty((rows, columns), np.float32) for _ in range(2))
        loop(plane, first, step, rough, fine)
        return rough, fine
    last = first + (rows - 1) * step + 1
    top, end = max(first - _TAPS, 0), min(last + _TAPS, plane.shape[0])
    part = plane[top:end]
    inner = np.s_[first - top : last - top : step, : (columns - 1) * step + 1 : step]
    rough, fine = second_differences(part)[inner], (part - smooth(part, 0))[inner]
    return np.abs(rough), np.abs(fine)


def _looked_loop(plane: F32, first: int, step: int, rough: F32, fine: F32) -> None:
    height, width = plane.shape
    rows, columns = rough.shape
    sixth, part = np.float32(1 / _SECOND_DIFFERENCE), np.float32(1 / 16)
    two, four, six = np.float32(2), np.float32(4), np.float32(6)
    bent, soft = np.empty(width + 4, np.float32), np.empty(width + 4, np.float32)
    for i in range(rows):
        y = first + i * step
        above, below = abs(y - 1), height - 1 - abs(height - 2 - y)
        higher, lower = abs(y - 2), height - 1 - abs(height - 3 - y)
        here, up, down = plane[y], plane[above], plane[below]
        far_up, far_down = plane[higher], plane[lower]
        inner_bent, inner_soft = bent[2:], soft[2:]
        for x in range(width):
            near = up[x] + down[x]
            inner_bent[x] = near - two * here[x]
            inner_soft[x] = (far_up[x] + far_down[x] + four * near + six * here[x]) * part
        for n in range(2):  # mirrored beyond both ends
            bent[n], soft[n] = bent[4 - n], soft[4 - n]
            bent[width + 3 - n], soft[width + 3 - n] = bent[width - 1 + n], soft[width - 1 + n]
        for j in range(columns):
            x = j * step
            bend = bent[x + 1] + bent[x + 3] - two * bent[x + 2]
            rough[i, j] = abs(bend * sixth)
            near = soft[x + 1] + soft[x + 3]
            calm = (soft[x] + soft[x + 4] + four * near + six * soft[x + 2]) * part
            fine[i, j] = abs(here[x] - calm)


_LOOP: Final = Compiled(_looked_loop)


def _grain(grid: F64, fine: F64) -> float:
    ratio = float(np.quantile(fine / np.maximum(grid, 1e-30), _CALM))
    return float(np.interp(ratio, *_GRAIN))

"""Low-order surfaces through the quiet part of a picture."""

from __future__ import annotations

import numpy as np

from ..model.measures import Surface
from ..model.planes import F32, Mask
from .robust import MAD_TO_SIGMA


def low_surface(plane: F32, use: Mask | None = None, cell: int = 32, degree: int = 1) -> Surface:
    """Plane through the low cells of ``plane`` (H, W): the background under nebula and stars.

    Each cell gives its median; cells above the fit are dropped harder than cells below it.
    ``use`` marks pixels that count. ``degree`` 0 gives a constant. NaN does not count.
    """
    height, width = plane.shape
    cell = max(4, min(cell, height // 4 or 4, width // 4 or 4))
    ys, xs, levels = _cells(plane, use, cell)
    if levels.size == 0:
        return Surface(0.0, 0.0, 0.0, width, height)
    x, y = xs - (width - 1) / 2, ys - (height - 1) / 2
    design = np.stack([np.ones_like(x), x, y], 1)[:, : 1 if degree == 0 else 3]
    keep = levels <= np.quantile(levels, 0.5)
    coefficients = np.zeros(design.shape[1])
    for _ in range(12):
        if keep.sum() < 2 * design.shape[1]:
            break
        coefficients = np.linalg.lstsq(design[keep], levels[keep], rcond=None)[0]
        residual = levels - design @ coefficients
        below = residual[residual <= np.median(residual[keep])]
        sigma = max(
            MAD_TO_SIGMA * float(np.median(np.abs(below - np.median(residual[keep])))), 1e-30
        )
        new = (residual < 1.5 * sigma) & (residual > -4 * sigma)
        if np.array_equal(new, keep):
            break
        keep = new
    a, bx, by = (*map(float, coefficients), 0.0, 0.0)[:3]
    return Surface(a, bx, by, width, height)


def _cells(plane: F32, use: Mask | None, cell: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres (y, x) and median levels of the cells of which at least 30 % count."""
    rows, columns = plane.shape[0] // cell, plane.shape[1] // cell

    def blocked(values: np.ndarray) -> np.ndarray:
        cut = values[: rows * cell, : columns * cell].reshape(rows, cell, columns, cell)
        return cut.swapaxes(1, 2).reshape(rows * columns, cell * cell)

    counts = np.isfinite(plane) if use is None else np.isfinite(plane) & use
    values = np.sort(blocked(np.where(counts, plane, np.inf)), axis=1)
    number = blocked(counts).sum(1)
    level = values[np.arange(len(values)), np.maximum(number // 2, 0).clip(max=cell * cell - 1)]
    good = number >= max(1, int(0.3 * cell * cell))
    y, x = (a.ravel() * cell + (cell - 1) / 2 for a in np.mgrid[0:rows, 0:columns])
    return y[good], x[good], level[good].astype(float)

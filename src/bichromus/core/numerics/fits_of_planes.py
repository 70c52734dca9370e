"""Low-order surfaces through the quiet part of a picture."""

from __future__ import annotations

import numpy as np

from ..model.measures import Surface
from ..model.planes import F32, Mask
from .robust import low_clipped_level, mad_sigma


def low_surface(plane: F32, use: Mask | None = None, cell: int = 32, degree: int = 1) -> Surface:
    """Plane through the low cells of ``plane`` (H, W): the background under nebula and stars.

    Each cell gives its low-clipped level; cells above the fit are dropped harder than cells below it.
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
        sigma = max(1.4826 * float(np.median(np.abs(below - np.median(residual[keep])))), 1e-30)
        new = (residual < 1.5 * sigma) & (residual > -4 * sigma)
        if np.array_equal(new, keep):
            break
        keep = new
    a, bx, by = (*map(float, coefficients), 0.0, 0.0)[:3]
    return Surface(a, bx, by, width, height)


def _cells(plane: F32, use: Mask | None, cell: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    height, width = plane.shape
    xs, ys, levels = [], [], []
    for y0 in range(0, height - cell + 1, cell):
        for x0 in range(0, width - cell + 1, cell):
            part = plane[y0 : y0 + cell, x0 : x0 + cell]
            good = np.isfinite(part)
            if use is not None:
                good &= use[y0 : y0 + cell, x0 : x0 + cell]
            if good.sum() < 0.3 * cell * cell:
                continue
            values = part[good]
            levels.append(low_clipped_level(values, rounds=3))
            xs.append(x0 + (cell - 1) / 2)
            ys.append(y0 + (cell - 1) / 2)
    return np.array(ys), np.array(xs), np.array(levels)


def scatter(plane: F32) -> float:
    """Robust scatter of a plane from its horizontal differences: a first guess of the noise."""
    return mad_sigma(np.diff(plane[:: max(1, plane.shape[0] // 400)], axis=1)) / np.sqrt(2)

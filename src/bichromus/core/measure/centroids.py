"""Centres of stars to a fraction of a pixel."""

from __future__ import annotations

import numpy as np

from ..model.planes import F32
from ..numerics.robust import FWHM_TO_SIGMA


def centroids(
    plane: F32,
    x: np.ndarray,
    y: np.ndarray,
    width_px: float,
    passes: int = 4,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres of peaks (N,), by a Gaussian window as wide as a star that follows the star; NaN
    where it runs away.

    The third array is the light in the window above the ring around it. Positions near the edge
    come out NaN.
    """
    reach = int(np.ceil(1.5 * width_px)) + 1
    xi, yi = np.rint(x).astype(int), np.rint(y).astype(int)
    inside = (
        (xi >= reach)
        & (xi < plane.shape[1] - reach)
        & (yi >= reach)
        & (yi < plane.shape[0] - reach)
    )
    cx, cy, light = (np.full(len(x), np.nan) for _ in range(3))
    if not inside.any():
        return cx, cy, light
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    rows, columns = yi[inside][:, None, None] + dy, xi[inside][:, None, None] + dx
    part = plane[rows, columns].astype(float)
    ring = (np.abs(dx) == reach) | (np.abs(dy) == reach)
    part -= np.median(part[:, ring], axis=1)[:, None, None]
    bright = np.maximum(part, 0)
    s2 = 2 * (width_px / FWHM_TO_SIGMA) ** 2
    mx = my = np.zeros(int(inside.sum()))
    for _ in range(passes):
        weight = (
            np.exp(-((dx - mx[:, None, None]) ** 2 + (dy - my[:, None, None]) ** 2) / s2) * bright
        )
        total = np.maximum(weight.sum((1, 2)), 1e-30)
        # a Gaussian window sees half the offset of a star of its own width
        mx = np.clip(mx + 2 * ((weight * dx).sum((1, 2)) / total - mx), -reach, reach)
        my = np.clip(my + 2 * ((weight * dy).sum((1, 2)) / total - my), -reach, reach)
    good = np.hypot(mx, my) < width_px
    cx[inside] = np.where(good, xi[inside] + mx, np.nan)
    cy[inside] = np.where(good, yi[inside] + my, np.nan)
    light[inside] = part.sum((1, 2))
    return cx, cy, light

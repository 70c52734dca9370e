"""From colour planes to lines by generalised least squares."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..model.planes import F32
from ..numerics.bands import row_bands


@dataclass(frozen=True)
class Unmixing:
    """``weights`` W (lines, 3): line = W c. ``sigma`` (lines,): noise of each line from the planes'
    noise.
    """

    weights: np.ndarray
    sigma: np.ndarray
    naive_sigma: np.ndarray


def unmixing(matrix: np.ndarray, sigma: np.ndarray) -> Unmixing:
    """W = (A^T S^-1 A)^-1 A^T S^-1 for response A (3, n) and plane noise sigma (3,).

    ``naive_sigma`` is the noise of the plain way, per line in the same flux units: the one plane
    (red) or the mean of green and blue, whichever sees the line.
    """
    weights, line_sigma = least_squares(matrix, sigma)
    naive = []
    for column in matrix.T:
        plain = np.array([1.0, 0, 0]) if column[0] >= column[1:].max() else np.array([0, 0.5, 0.5])
        naive.append(float(np.sqrt((plain**2 * sigma**2).sum()) / (plain @ column)))
    return Unmixing(weights, line_sigma, np.array(naive))


def least_squares(matrix: np.ndarray, sigma: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Generalised least squares for any number of planes: weights (lines, planes) and the noise of
    each line.
    """
    inverse = np.diag(1.0 / sigma**2)
    weights = np.linalg.solve(matrix.T @ inverse @ matrix, matrix.T @ inverse)
    return weights, np.sqrt(np.diag(weights @ np.diag(sigma**2) @ weights.T))


def apply_unmixing(stack: F32, weights: np.ndarray) -> F32:
    """Lines (n, H, W) from a stack (3, H, W); NaN where any plane is NaN."""
    out = np.empty((weights.shape[0], *stack.shape[1:]), np.float32)
    small = weights.astype(np.float32)
    for y0, y1 in row_bands(stack.shape[1], 256):
        out[:, y0:y1] = np.tensordot(small, stack[:, y0:y1], axes=(1, 0))
    return out

"""Smooth polynomial surfaces fitted robustly to scattered values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .robust import MAD_TO_SIGMA

F64 = NDArray[np.float64]
_STILL = 1e-4  # sigma by which terms may change once a fit has come to rest


@dataclass(frozen=True)
class Poly:
    """A polynomial of ``degree`` over a frame of ``shape`` (H, W); terms in coordinates from -1 to
    1.
    """

    degree: int
    terms: tuple[float, ...]
    shape: tuple[int, int]

    def at(self, x: F64, y: F64) -> F64:
        """Values at pixel positions."""
        return _design(self.degree, *_scaled(x, y, self.shape)) @ np.array(self.terms)

    def rows(self, y0: int, y1: int, width: int | None = None) -> F32:
        """A band of the surface (y1 - y0, W), or as ``width`` goes on beyond its frame."""
        columns = np.arange(self.shape[1] if width is None else width, dtype=float)
        u, v = _scaled(columns, np.arange(y0, y1, dtype=float), self.shape)
        order = np.arange(self.degree + 1)
        terms = np.zeros((len(order), len(order)))
        for term, (a, b) in zip(self.terms, _powers(self.degree), strict=True):
            terms[b, a] = term
        along = terms @ u ** order[:, None]
        return np.asarray(v[:, None] ** order @ along, np.float32)

    def peak_to_peak(self) -> float:
        """Largest less smallest value over the frame."""
        x, y = np.meshgrid(
            np.linspace(0, self.shape[1] - 1, 33), np.linspace(0, self.shape[0] - 1, 33)
        )
        return float(np.ptp(self.at(x.ravel(), y.ravel())))


def fit_poly(
    x: F64,
    y: F64,
    values: F64,
    shape: tuple[int, int],
    degree: int,
    rounds: int = 12,
    weights: F64 | None = None,
) -> Poly:
    """Fit by Tukey's biweight (4.685 robust sigma), from a median start; needs more values than
    terms.
    """
    matrix = _design(degree, *_scaled(x, y, shape))
    base = np.ones(len(values)) if weights is None else np.asarray(weights, float)
    weight = base.copy()
    terms: F64 = np.zeros(matrix.shape[1])
    for number in range(rounds):
        # on coordinates from -1 to 1 the normal equations keep all digits that data have
        weighted = (matrix * weight[:, None]).T
        found = np.linalg.lstsq(weighted @ matrix, weighted @ values, rcond=None)[0]
        before, terms = terms, np.asarray(found, np.float64)
        off = values - matrix @ terms
        sigma = max(MAD_TO_SIGMA * float(np.median(np.abs(off - np.median(off)))), 1e-30)
        if number > 2 and np.abs(terms - before).max() < _STILL * sigma:
            break
        if number < 2:  # first gently: outliers must not bend the start
            weight = base / np.maximum(np.abs(off) / (1.5 * sigma), 1)
        else:
            weight = base * np.clip(1 - (off / (4.685 * sigma)) ** 2, 0, 1) ** 2
        if (weight > 0).sum() <= matrix.shape[1]:
            break
    return Poly(degree, tuple(map(float, terms)), shape)


def _powers(degree: int) -> list[tuple[int, int]]:
    return [(n - k, k) for n in range(degree + 1) for k in range(n + 1)]


def _scaled(x: F64, y: F64, shape: tuple[int, int]) -> tuple[F64, F64]:
    return 2 * x / max(shape[1] - 1, 1) - 1, 2 * y / max(shape[0] - 1, 1) - 1


def _design(degree: int, u: F64, v: F64) -> F64:
    return np.stack([u**a * v**b for a, b in _powers(degree)], -1)

"""The shape of a plane's stars, learnt from its bright ones: how wide and how long they are over
the frame, how far their wings reach, and what no profile tells.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
import scipy

from ..measure.profiles import AMPLITUDE, BETA, F64, TABLE_STEP, WIDTH, Shape, X, Y, pixels_about
from ..model.planes import F32, Mask
from ..numerics.robust import MAD_TO_SIGMA, weighted_median
from .star_fit import Fitted, Sheet

LOUD: Final = 40.0  # sigma of a star that tells the shape
_LOUD_TABLE: Final = 100.0
_BETA_SPREAD: Final = 0.05
_FEWEST: Final = (6, 24, 60)
"""Stars from which a shape is told at all, told with a slope, told with a bend."""
_FEWEST_TABLE: Final = 8
_TABLE_REACH: Final = 2.5  # star widths
_ROUNDS: Final = 8
_HUBER: Final = 1.5
_LN_BETA: Final = (np.log(1.6), np.log(7.0))
_CLOSE: Final = 3.0  # star widths to the next star, for the table
_BESIDE: Final = 0.2  # of a star's light, from which another beside it counts
_FEW_SAMPLES: Final = 4
_SURE: Final = 4.0
"""Times the squared error of a cell that its own square must exceed: the noise of a table, times
the amplitude of a loud star, would be seen.
"""


def learn_shape(shape: Shape, fitted: Fitted) -> Shape:
    """The shape that free fits tell; the one before where they are too few."""
    p, error = fitted.p, fitted.error
    good = p[:, AMPLITUDE] > LOUD * error[:, AMPLITUDE]
    if good.sum() < _FEWEST[0]:
        return shape
    p, error = p[good], error[good]
    beta = _beta(p, error)
    kind = 1 if len(p) < _FEWEST[1] else 3 if len(p) < _FEWEST[2] else 6
    terms = shape.terms(p[:, X], p[:, Y])[:, :kind]
    quadratics = np.zeros((3, 6))
    for row in range(3):
        spread = np.hypot(error[:, WIDTH + row], 0.02)
        quadratics[row, :kind] = _robust(terms, p[:, WIDTH + row], spread)
    return Shape(shape.extent, quadratics, float(np.clip(beta, *_LN_BETA)), shape.second)


def _beta(p: F64, error: F64) -> float:
    return weighted_median(p[:, BETA], 1 / (error[:, BETA] ** 2 + _BETA_SPREAD**2))[0]


def _robust(terms: F64, values: F64, spread: F64) -> F64:
    """Least squares with Huber's weights (Huber 1964)."""
    weight = 1 / spread
    out: F64 = np.zeros(terms.shape[1])
    out[0] = np.median(values)
    for _ in range(_ROUNDS):
        rest = values - terms @ out
        scale = max(MAD_TO_SIGMA * float(np.median(np.abs(rest))), 1e-6)
        held = weight * np.sqrt(np.minimum(1, _HUBER * scale / np.maximum(np.abs(rest), 1e-12)))
        found = np.linalg.lstsq(terms * held[:, None], values * held, rcond=None)[0]
        out = np.asarray(found, np.float64)
    return out


@dataclass(frozen=True)
class KnownStars:
    """Stars (N, 7) of a model, errors (N,) of their amplitudes, radii (N,) of their full cores."""

    p: F64
    error: F64
    full_px: F64

    def telling(self, loud: float, width: float) -> Mask:
        """Which tell their shape: loud, not full, and with no bright one beside them."""
        out = (self.p[:, AMPLITUDE] > loud * self.error) & (self.full_px == 0)
        return np.asarray(out & _lonely(self.p, _CLOSE * width), np.bool_)


def learn_table(sheet: Sheet, shape: Shape, known: KnownStars) -> Shape:
    """The shape with a table of what is left of the brightest stars; without one where they are
    too few.
    """
    rest, use = sheet.plane - sheet.model, sheet.use
    width = float(np.exp(shape.quadratics[0, 0]))
    p, error = known.p, known.error
    loud = known.telling(_LOUD_TABLE, width)
    if loud.sum() < _FEWEST_TABLE:
        return shape
    reach = int(np.ceil(_TABLE_REACH * width))
    stars = p[loud]
    dy, dx = (g.ravel() for g in np.mgrid[-reach : reach + 1, -reach : reach + 1])
    columns, rows, there = pixels_about(stars, dx, dy, rest.shape)
    there &= use[rows, columns]
    values = rest[rows, columns].astype(float)
    ring = there & (np.hypot(columns - stars[:, X, None], rows - stars[:, Y, None]) > 0.7 * reach)
    values -= np.nan_to_num(np.nanmedian(np.where(ring, values, np.nan), axis=1, keepdims=True))
    values /= stars[:, AMPLITUDE, None]
    noise = error[loud, None] / stars[:, AMPLITUDE, None]
    half = int(np.ceil(_TABLE_REACH * width / TABLE_STEP))
    at = [
        np.rint((c - stars[:, k, None]) / TABLE_STEP).astype(int) + half
        for c, k in ((columns, X), (rows, Y))
    ]
    side = 2 * half + 1
    there &= (at[0] >= 0) & (at[0] < side) & (at[1] >= 0) & (at[1] < side)
    cell = (at[1] * side + at[0])[there]
    weight = np.broadcast_to(1 / (noise**2 + 0.002**2), values.shape)[there]
    table = _cells(cell, values[there], weight, side)
    return shape.with_table(table)


def _cells(cell: np.ndarray, values: F64, weight: F64, side: int) -> F32:
    """Weighted means of cells, held to what stands out of their own scatter."""
    size = side * side
    count = np.bincount(cell, minlength=size)
    total = np.bincount(cell, weight, size)
    mean = np.bincount(cell, weight * values, size) / np.maximum(total, 1e-30)
    square = np.bincount(cell, weight * (values - mean[cell]) ** 2, size) / np.maximum(total, 1e-30)
    error2 = square / np.maximum(count, 1)
    shrunk = mean * np.maximum(0, 1 - _SURE * error2 / np.maximum(mean**2, 1e-30))
    shrunk[count < _FEW_SAMPLES] = 0
    table = np.asarray(shrunk.reshape(side, side), np.float32)
    table = np.asarray(cv2.GaussianBlur(table, (0, 0), 0.7), np.float32)
    away = np.hypot(*np.mgrid[-(side // 2) : side // 2 + 1, -(side // 2) : side // 2 + 1])
    edge = np.clip((side // 2 - away) / (0.25 * (side // 2)), 0, 1)
    return np.asarray(table * edge, np.float32)


def _lonely(p: F64, apart: float) -> Mask:
    """Stars with no other beside them that matters."""
    pairs = scipy.spatial.cKDTree(p[:, X : Y + 1]).query_pairs(apart, output_type="ndarray")
    out = np.ones(len(p), np.bool_)
    if len(pairs):
        one, two = pairs.T
        for a, b in ((one, two), (two, one)):
            out[a[p[b, AMPLITUDE] > _BESIDE * p[a, AMPLITUDE]]] = False
    return out

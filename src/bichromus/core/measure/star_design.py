"""Stars fitted in one linear step: a profile with its slopes on a bending ground, many stars at
once, for each of some places within a pixel.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from ..numerics.compiled import Compiled
from .profiles import AMPLITUDE, F64, Shape, X, Y, moffat_slopes, pixels_about, quadratic
from .stamps import PHASES, phase_number, phase_of

_DISC: Final = 1.8  # star widths that are fitted
_STEADY: Final = 1e-9
STAR: Final = 6  # terms of a star: amplitude, x, y, ln FWHM and its ellipse
_GROUND: Final = 6  # terms of the ground it stands on
_TERMS: Final = STAR + _GROUND
_MOST_STEP_PX: Final = 0.5


@dataclass(frozen=True)
class Step:
    """What one step tells of N stars: amplitudes and places, by how much ln FWHM and ellipse are
    off the design's (N, 3), the errors of amplitude and of these per unit of noise (N, 4), and what
    a star on a ground and a ground alone leave (sums of squares).
    """

    amplitude: F64
    x: F64
    y: F64
    off: F64
    error: F64
    rest: F64
    without: F64


@dataclass(frozen=True)
class Beside:
    """Of some stars, by number (M,), another one (M, 7) that lies beside each."""

    star: NDArray[np.int64]
    other: F64


@dataclass(frozen=True)
class _Lot:
    """Stars (N, 7) of one fit: the numbers of their phases, the weights (N, 3) of their own light
    in the model, and what lies beside them.
    """

    stars: F64
    number: NDArray[np.int64]
    weight: F64
    beside: Beside | None


class StarDesign:
    """Least squares for stars of the middle of a field."""

    def __init__(self, shape: Shape):
        middle = np.array([[shape.extent[1] / 2.0, shape.extent[0] / 2.0]])
        self._shape = shape
        self.star = shape.stars(middle[:, 0], middle[:, 1], np.ones(1))
        self.width = float(np.exp(self.star[0, 3]))
        reach = int(np.ceil(_DISC * self.width))
        dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
        inside = np.hypot(dx, dy) <= _DISC * self.width + 0.5
        self.dx, self.dy = dx[inside], dy[inside]
        self.freedom = len(self.dx) - _TERMS
        ground = quadratic(self.dx / reach, self.dy / reach)
        half = PHASES // 2
        phases = [(i, j) for i in range(-half, half + 1) for j in range(-half, half + 1)]
        steps = np.array(phases, float) / PHASES
        at = self.dx - steps[:, :1], self.dy - steps[:, 1:]
        value, slopes = moffat_slopes(*at, np.repeat(self.star, len(phases), 0), shape.second)
        value = value + shape.left_at(*at)
        even = np.broadcast_to(ground, (len(phases), *ground.shape))
        terms = np.concatenate([value[:, :, None], slopes[:, :, : STAR - 1], even], axis=2)
        normal = np.matmul(terms.transpose(0, 2, 1), terms)
        self._steady = _STEADY * np.trace(normal, axis1=1, axis2=2) / _TERMS
        self._inverse = np.linalg.inv(normal + self._steady[:, None, None] * np.eye(_TERMS))
        self._error = np.sqrt(np.diagonal(self._inverse, axis1=1, axis2=2))[:, [0, 3, 4, 5]]
        # what a ground alone explains is told by an orthonormal basis of it
        basis = np.broadcast_to(np.linalg.qr(ground)[0], even.shape)
        self._columns = np.ascontiguousarray(np.concatenate([terms, basis], axis=2))

    def fit(
        self, plane: F32, model: F32, stars: F64, own: bool, beside: Beside | None = None
    ) -> Step:
        """Fit stars (N, 7) of a plane (H, W) on what a ``model`` of it leaves; ``own``: they are in
        the model themselves. The light ``beside`` some of them is taken off.
        """
        middle, phase, off = phase_of(stars)
        number = phase_number(phase)
        light = stars[:, AMPLITUDE, None] if own else np.zeros((len(stars), 1))
        weight = np.concatenate([light, light * off], axis=1)
        sums = self._sums(plane, model, _Lot(stars, number, weight, beside))
        right = sums[:, :_TERMS]
        terms = np.matmul(self._inverse[number], right[:, :, None])[:, :, 0]
        level = sums[:, _TERMS : _TERMS + _GROUND]
        square = sums[:, -1]
        told = (terms * right).sum(1) + self._steady[number] * (terms**2).sum(1)
        rest = np.maximum(square - told, 0.0)
        without = np.maximum(square - (level**2).sum(1), 0.0)
        light = np.maximum(terms[:, :1], 1e-30)
        moved = np.clip(terms[:, 1:3] / light, -_MOST_STEP_PX, _MOST_STEP_PX)
        place = middle + phase / PHASES + moved
        error = self._error[number].copy()
        error[:, 1:] /= light
        away = terms[:, 3:STAR] / light
        return Step(terms[:, 0], place[:, 0], place[:, 1], away, error, rest, without)

    def _sums(self, plane: F32, model: F32, lot: _Lot) -> F64:
        """Of each star (N, 19) the sums over its pixels of the value times each column, and of its
        square.
        """
        loop, beside = _LOOP.get(), lot.beside
        plain = self._shape.second is None and self._shape.table is None
        if loop is None or not (plain or beside is None):
            return self._plain_sums(plane, model, lot)
        out = np.empty((len(lot.stars), self._columns.shape[2] + 1))
        row_of, other = np.full(len(lot.stars), -1), _NOBODY
        if beside is not None:
            row_of[beside.star], other = np.arange(len(beside.star)), beside.other
        at = np.rint(lot.stars[:, X : Y + 1]).astype(np.int64)
        steps = self.dx.astype(np.int64), self.dy.astype(np.int64)
        loop(plane, model, at, lot.number, lot.weight, self._columns, *steps, other, row_of, out)
        return out

    def _plain_sums(self, plane: F32, model: F32, lot: _Lot) -> F64:
        columns, rows, _ = pixels_about(lot.stars, self.dx, self.dy, plane.shape)
        at = rows * plane.shape[1] + columns  # one index is found sooner than two
        data = (np.take(plane, at) - np.take(model, at)).astype(np.float64)
        if lot.beside is not None:
            those = lot.beside.star
            data[those] -= self._shape.values(
                lot.beside.other, columns[those], rows[those], roughly=True
            )
        out = np.empty((len(lot.stars), self._columns.shape[2] + 1))
        for one in np.unique(lot.number):
            those = np.flatnonzero(lot.number == one)
            design = self._columns[one]
            values = data[those] + lot.weight[those] @ design[:, :3].T
            out[those, :-1] = values @ design
            out[those, -1] = (values**2).sum(1)
        return out


def _sums_loop(
    plane: F32,
    model: F32,
    at: NDArray[np.int64],
    number: NDArray[np.int64],
    weight: F64,
    columns: F64,
    dx: NDArray[np.int64],
    dy: NDArray[np.int64],
    other: F64,
    row_of: NDArray[np.int64],
    out: F64,
) -> None:
    """What ``_plain_sums`` tells, star by star."""
    height, width = plane.shape
    many = columns.shape[2]
    sums = np.empty(many)  # its own memory: what is added needs not be written at once
    for n in range(len(at)):
        design, row = columns[number[n]], row_of[n]
        sums[:] = 0
        square = 0.0
        light, x0, y0, a, b, c, s, beta = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0
        if row >= 0:
            light, x0, y0 = other[row, 0], other[row, 1], other[row, 2]
            a, b, c = 1 + other[row, 4], 1 - other[row, 4], other[row, 5]
            beta = np.exp(other[row, 6])
            s = 4 * (2 ** (1 / beta) - 1) * np.exp(-2 * other[row, 3])
        for p in range(len(dx)):
            x = min(max(at[n, 0] + dx[p], 0), width - 1)
            y = min(max(at[n, 1] + dy[p], 0), height - 1)
            value = float(plane[y, x] - model[y, x])
            if row >= 0:  # the light of a profile and a 24th of how it bends, as elsewhere
                u, v = x - x0, y - y0
                over = 1 / (1 + s * (a * u * u + b * v * v + 2 * c * u * v))
                steep = (a * u + c * v) ** 2 + (b * v + c * u) ** 2
                bend = beta * s * over * ((beta + 1) * s * over * steep - 1)
                value -= light * np.exp(beta * np.log(over)) * (1 + bend / 6)
            for k in range(3):
                value += weight[n, k] * design[p, k]
            for k in range(many):
                sums[k] += value * design[p, k]
            square += value * value
        out[n, :many] = sums
        out[n, many] = square


_LOOP: Final = Compiled(_sums_loop)
_NOBODY: Final = np.zeros((0, 7))

"""Weighted least squares of many small problems at once: steps of stars with what lies beside
them, and how much of the light of its disc each explains.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from ..numerics.compiled import Compiled

F64 = NDArray[np.float64]
_LITTLE: Final = 1e-9  # of a normal matrix that is scaled to ones: it can always be solved
_NOTHING: Final = 1e-30
GROUND: Final = 6  # last columns: the terms of a quadratic


def _sum(one: F64, two: F32 | F64) -> float:
    """Of products."""
    total = 0.0
    for q in range(len(one)):
        total += one[q] * two[q]
    return total


def _weigh(weight: F64, values: F32 | F64, out: F64) -> None:
    for q in range(len(out)):
        out[q] = weight[q] * values[q]


def _take_off(values: F64, share: float, other: F32 | F64) -> None:
    for q in range(len(values)):
        values[q] -= share * other[q]


def _root(matrix: F64, least: float) -> None:
    """The root of a matrix (Cholesky), in its lower half, in place; no pivot below ``least``."""
    for i in range(len(matrix)):
        for j in range(i + 1):
            left = matrix[i, j]
            for k in range(j):
                left -= matrix[i, k] * matrix[j, k]
            if i == j:
                matrix[i, i] = np.sqrt(max(left, least))
            else:
                matrix[i, j] = left / matrix[j, j]


def _down(root: F64, x: F64, first: int) -> None:
    """The root's inverse times ``x``, in place; nothing stands before the ``first``."""
    for i in range(first, len(x)):
        left = x[i]
        for k in range(first, i):
            left -= root[i, k] * x[k]
        x[i] = left / root[i, i]


def _up(root: F64, x: F64) -> None:
    """The inverse of the root turned over times ``x``, in place."""
    for i in range(len(x) - 1, -1, -1):
        left = x[i]
        for k in range(i + 1, len(x)):
            left -= root[k, i] * x[k]
        x[i] = left / root[i, i]


def solve(
    jacobian: F32, weight: F64, data: F64, penalty: F64, wanted: F64, told: int
) -> tuple[F64, F64]:
    """Steps (N, K) of least squares with ``jacobian`` (N, K, P), ``weight`` and ``data`` (N, P),
    and priors: ``penalty`` (N, K) on the diagonal, ``wanted`` (N, K) beside the data; and the
    variances (N, told) of the first parameters.
    """
    loop = _SOLVE.get()
    if loop is None:
        return _solve_plainly(jacobian, weight, data, penalty, wanted, told)
    delta, variance = np.empty(penalty.shape), np.empty((len(penalty), told))
    loop(jacobian, weight, data, penalty, wanted, delta, variance)
    return delta, variance


def _solve_plainly(
    jacobian: F32, weight: F64, data: F64, penalty: F64, wanted: F64, told: int
) -> tuple[F64, F64]:
    weighted = jacobian * weight[:, None, :]
    normal = np.matmul(weighted, jacobian.transpose(0, 2, 1))
    every = range(normal.shape[1])
    normal[:, every, every] += penalty
    right = np.einsum("nip,np->ni", weighted, data) + wanted
    scale = np.sqrt(np.maximum(normal[:, every, every], _NOTHING))
    normal = normal / scale[:, :, None] / scale[:, None, :]
    normal[:, every, every] += _LITTLE
    inverse = np.linalg.inv(normal)
    delta = np.einsum("nij,nj->ni", inverse, right / scale) / scale
    first = range(told)
    return delta, inverse[:, first, first] / scale[:, :told] ** 2


def _solve_each(
    jacobian: F32,
    weight: F64,
    data: F64,
    penalty: F64,
    wanted: F64,
    delta: F64,
    variance: F64,
) -> None:
    """The same, one after the other."""
    count, size, pixels = jacobian.shape
    normal, right, scale = np.empty((size, size)), np.empty(size), np.empty(size)
    weighted = np.empty(pixels)
    for n in range(count):
        for i in range(size):
            _weigh(weight[n], jacobian[n, i], weighted)
            right[i] = wanted[n, i] + _sum(weighted, data[n])
            for j in range(i + 1):
                normal[i, j] = _sum(weighted, jacobian[n, j])
            normal[i, i] += penalty[n, i]
            scale[i] = 1.0 / np.sqrt(max(normal[i, i], _NOTHING))
        for i in range(size):
            for j in range(i + 1):
                normal[i, j] *= scale[i] * scale[j]
            normal[i, i] += _LITTLE
            right[i] *= scale[i]
        _root(normal, _LITTLE * _LITTLE)
        _down(normal, right, 0)
        _up(normal, right)
        for i in range(size):
            delta[n, i] = right[i] * scale[i]
        for m in range(variance.shape[1]):
            # a column of the root's inverse: its squares add up to the variance
            right[:] = 0.0
            right[m] = 1.0
            _down(normal, right, m)
            variance[n, m] = _sum(right, right) * scale[m] * scale[m]


def explained(jacobian: F32, weight: F64, data: F64, star: F64, delta: F64, own: int) -> F64:
    """How much better a ground with the star explains its disc than a ground alone (N,), less what
    noise explains: 1 where all of it is the star. ``star`` (N, P) is its light, ``own`` how many of
    the first parameters are its own; the last are the ground's.
    """
    loop = _EXPLAIN.get()
    if loop is None:
        return _explained_plainly(jacobian, weight, data, star, delta, own)
    out = np.empty(len(jacobian))
    loop(jacobian, weight, data, star, delta, own, out)
    return out


def _explained_plainly(
    jacobian: F32, weight: F64, data: F64, star: F64, delta: F64, own: int
) -> F64:
    ground = jacobian[:, -GROUND:].astype(np.float64)
    change = np.einsum("nkp,nk->np", jacobian[:, own:-GROUND], delta[:, own:-GROUND])
    alone = data + star - change
    fitted = data - np.einsum("nkp,nk->np", jacobian, delta)
    count = (weight > 0).sum(1)
    with_star = (weight * fitted**2).sum(1)
    weighted = ground * weight[:, None, :]
    normal = np.matmul(weighted, ground.transpose(0, 2, 1))
    every = range(GROUND)
    trace = np.trace(normal, axis1=1, axis2=2)
    normal[:, every, every] += _LITTLE * trace[:, None] + _NOTHING
    right = np.einsum("nip,np->ni", weighted, alone)
    level = np.linalg.solve(normal, right[:, :, None])[:, :, 0]
    without = (weight * (alone - np.einsum("nkp,nk->np", ground, level)) ** 2).sum(1)
    noise = np.maximum(count - 2 * GROUND, 1)
    gained = np.maximum(without - np.maximum(count - GROUND, 1), _NOTHING)
    return np.asarray(1 - np.maximum(with_star - noise, 0) / gained, np.float64)


def _explain_each(
    jacobian: F32, weight: F64, data: F64, star: F64, delta: F64, own: int, out: F64
) -> None:
    """The same, one after the other."""
    count, size, pixels = jacobian.shape
    first = size - GROUND
    normal, right = np.empty((GROUND, GROUND)), np.empty(GROUND)
    alone, fitted, weighted = np.empty(pixels), np.empty(pixels), np.empty(pixels)
    for n in range(count):
        fitted[:] = data[n]
        for k in range(own, first):
            _take_off(fitted, delta[n, k], jacobian[n, k])
        alone[:] = fitted
        _take_off(alone, -1.0, star[n])
        for k in range(own):
            _take_off(fitted, delta[n, k], jacobian[n, k])
        for k in range(first, size):
            _take_off(fitted, delta[n, k], jacobian[n, k])
        _weigh(weight[n], fitted, weighted)
        with_star = _sum(weighted, fitted)
        trace = 0.0
        for i in range(GROUND):
            _weigh(weight[n], jacobian[n, first + i], weighted)
            right[i] = _sum(weighted, alone)
            for j in range(i + 1):
                normal[i, j] = _sum(weighted, jacobian[n, first + j])
            trace += normal[i, i]
        for i in range(GROUND):
            normal[i, i] += _LITTLE * trace + _NOTHING
        _root(normal, _NOTHING)
        _down(normal, right, 0)
        _up(normal, right)
        for i in range(GROUND):
            _take_off(alone, right[i], jacobian[n, first + i])
        _weigh(weight[n], alone, weighted)
        without = _sum(weighted, alone)
        seen = 0
        for q in range(pixels):
            seen += weight[n, q] > 0
        noise = max(seen - 2 * GROUND, 1)
        gained = max(without - max(seen - GROUND, 1), _NOTHING)
        out[n] = 1 - max(with_star - noise, 0.0) / gained


_USES: Final = (_root, _down, _up, _sum, _weigh, _take_off)
_SOLVE: Final = Compiled(_solve_each, uses=_USES, sums=True)
_EXPLAIN: Final = Compiled(_explain_each, uses=_USES, sums=True)

"""How well models of a map foretell points that they did not see: five-fold cross-validation, all
folds at once, by sums that leave one fold out.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
Points = tuple[F64, F64]
FOLDS: Final = 5
_FAR_PX: Final = 20.0  # a point that is further off counts as so far: it is a false pair
_ROUNDS: Final = 3  # of a homography's weights


class Judge:
    """Matched points (N,) in five folds; ``u``, ``v`` are those of the output from -1 to 1.

    Its methods give the root mean square (px) of the distances of points from where the other four
    folds put them.
    """

    def __init__(self, output: Points, source: Points, seed: int = 0) -> None:
        (self.u, self.v), _, _ = scaled(output)
        self._source = np.stack(source, 1)
        self.count = len(self.u)
        self._fold = np.random.default_rng(seed).permutation(self.count) % FOLDS
        self._in = self._fold == np.arange(FOLDS)[:, None]
        self.least_seen = self.count - int(self._in.sum(1).max())

    def polynomial(self, basis: F64) -> float:
        """Of a map that is linear in a ``basis`` (N, K) of the output points."""
        count = basis.shape[1]
        squares = (basis[:, :, None] * basis[:, None, :]).reshape(self.count, -1)
        products = (basis[:, :, None] * self._source[:, None, :]).reshape(self.count, -1)
        gram = self._others(squares).reshape(FOLDS, count, count)
        right = self._others(products).reshape(FOLDS, count, 2)
        terms = np.linalg.pinv(gram, hermitian=True) @ right
        return self._error(np.einsum("nk,nkc->nc", basis, terms[self._fold]))

    def similarity(self, mirror: bool) -> float:
        """Of a turn, a scale and a shift."""
        z = self.u + 1j * (-self.v if mirror else self.v)
        w = self._source[:, 0] + 1j * self._source[:, 1]
        sums = np.stack([np.ones(self.count), z, w, np.abs(z) ** 2, np.conj(z) * w], 1)
        n, sz, sw, szz, szw = self._others(sums).T
        a = (szw - np.conj(sz) * sw / n) / (szz - np.abs(sz) ** 2 / n)
        b = (sw - a * sz) / n
        found = a[self._fold] * z + b[self._fold]
        return self._error(np.stack([found.real, found.imag], 1))

    def homography(self) -> float:
        """Of a direct linear transform, each fold with weights of its own."""
        (s, t), (mx, my), size = scaled((self._source[:, 0], self._source[:, 1]))
        u, v = self.u, self.v
        zero, one = np.zeros(self.count), np.ones(self.count)
        rows = np.stack(
            [
                np.stack([u, v, one, zero, zero, zero, -s * u, -s * v, -s], 1),
                np.stack([zero, zero, zero, u, v, one, -t * u, -t * v, -t], 1),
            ],
            1,
        )
        squares = np.einsum("nri,nrj->nij", rows, rows).reshape(self.count, -1)
        weight = np.where(self._in, 0.0, 1.0)
        places = np.stack([u, v, one])
        h = np.zeros((FOLDS, 3, 3))
        for _ in range(_ROUNDS):
            gram = (weight * weight @ squares).reshape(FOLDS, 9, 9)
            h = np.linalg.eigh(gram)[1][:, :, 0].reshape(FOLDS, 3, 3)
            h = h / h[:, 2:, 2:]
            weight = np.where(self._in, 0.0, 1 / (h[:, 2] @ places))
        found = np.einsum("nij,jn->ni", h[self._fold], places)
        return self._error(found[:, :2] / found[:, 2:] * size + np.array([mx, my]))

    def _others(self, values: np.ndarray) -> np.ndarray:
        """Sums (5, ...) of values (N, ...) over all points but those of each fold."""
        return np.where(self._in, 0.0, 1.0) @ values

    def _error(self, found: F64) -> float:
        off = np.hypot(*(found - self._source).T)
        return float(np.sqrt((np.minimum(off, _FAR_PX) ** 2).mean()))


def scaled(points: Points) -> tuple[Points, tuple[float, float], float]:
    """Points about their middle, from -1 to 1; the middle, and what 1 is."""
    x, y = points
    middle = float(x.mean()), float(y.mean())
    size = max(float(np.ptp(x)), float(np.ptp(y)), 1.0) / 2
    return ((x - middle[0]) / size, (y - middle[1]) / size), middle, size

"""Maps from output pixels to source pixels: similarity, affine, homography, polynomials; fitted and
chosen.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..numerics.robust import MAD_TO_SIGMA, RAYLEIGH_MEDIAN
from .judge import Judge, scaled

F64 = NDArray[np.float64]
Points = tuple[F64, F64]
ORDER: Final = ("similarity", "affine", "homography", "poly2", "poly3")
PARAMETERS: Final = {"similarity": 4, "affine": 6, "homography": 8, "poly2": 12, "poly3": 20}
_BETTER: Final = 0.95
"""A richer model is taken where it beats the simpler one by 5 % on stars that it did not see."""
_KEEP: Final = (3.5, 1.2)  # sigma of distances that count, and how much longer their tail is
_NEWTON: Final = 8  # steps: a field bends by less than a tenth, so each is ten times nearer
_SURE_PX: Final = 0.02  # no centroid is better
_FEWEST: Final = 6
_JUDGES: Final = 400  # stars that tell which model is the better one


@dataclass(frozen=True)
class Warp:
    """Source position of output positions. ``terms`` are coefficients in coordinates scaled by
    ``centre`` and ``size``.

    For a homography ``terms`` is the 3 x 3 matrix, for all others (terms, 2).
    """

    model: str
    terms: F64
    centre: tuple[float, float]
    size: float

    def __call__(self, x: F64, y: F64) -> Points:
        """Where output positions (any shape) lie in the source."""
        u, v = (x - self.centre[0]) / self.size, (y - self.centre[1]) / self.size
        if self.model == "homography":
            h = self.terms
            below = h[2, 0] * u + h[2, 1] * v + h[2, 2]
            return (
                (h[0, 0] * u + h[0, 1] * v + h[0, 2]) / below,
                (h[1, 0] * u + h[1, 1] * v + h[1, 2]) / below,
            )
        basis = _basis(self.model, u, v)
        stack = np.stack(basis)
        return np.tensordot(self.terms[:, 0], stack, 1), np.tensordot(self.terms[:, 1], stack, 1)

    def grid(self, x: F64, y: F64) -> Points:
        """Where the grid of columns ``x`` (W,) and rows ``y`` (H,) lies in the source: (H, W) each,
        as of all its points one by one, but sooner.
        """
        u, v = (x - self.centre[0]) / self.size, (y - self.centre[1]) / self.size
        if self.model == "homography":
            h = self.terms
            below = h[2, 0] * u + (h[2, 1] * v + h[2, 2])[:, None]
            left, top = (h[n, 0] * u + (h[n, 1] * v + h[n, 2])[:, None] for n in (0, 1))
            return left / below, top / below
        powers = _POWERS[: len(self.terms)]
        across, down = (np.stack([np.ones_like(t), t, t * t, t * t * t]) for t in (u, v))
        cubes = np.zeros((2, 4, 4))
        for (i, j), terms in zip(powers, self.terms, strict=True):
            cubes[:, j, i] = terms
        return down.T @ (cubes[0] @ across), down.T @ (cubes[1] @ across)

    def back(self, u: F64, v: F64) -> Points:
        """Where points of the source (N,) lie on the output: by Newton's method with the slopes of
        its middle.
        """
        x, y = (np.full(len(u), float(c)) for c in self.centre)
        j = np.linalg.inv(self.jacobian(*self.centre))
        for _ in range(_NEWTON):
            at = self(x, y)
            du, dv = u - at[0], v - at[1]
            x, y = x + j[0, 0] * du + j[0, 1] * dv, y + j[1, 0] * du + j[1, 1] * dv
        return x, y

    def jacobian(self, x: float, y: float) -> F64:
        """Derivative of the source position by the output position (2, 2) at a point."""
        u, v = self(np.array([x + 0.5, x - 0.5, x, x]), np.array([y, y, y + 0.5, y - 0.5]))
        return np.array([[u[0] - u[1], u[2] - u[3]], [v[0] - v[1], v[2] - v[3]]])


_POWERS: Final = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2), (3, 0), (2, 1), (1, 2), (0, 3))
"""Of u and v in the terms of a polynomial."""


def _basis(model: str, u: F64, v: F64) -> list[F64]:
    one = np.ones_like(u)
    if model in ("similarity", "affine"):
        return [one, u, v]
    out = [one, u, v, u * u, u * v, v * v]
    return out if model == "poly2" else [*out, u * u * u, u * u * v, u * v * v, v * v * v]


def fit(model: str, output: Points, source: Points, mirror: bool = False) -> Warp:
    """Least squares of a model on matched points (N,)."""
    (u, v), centre, size = scaled(output)
    if model == "similarity":
        return Warp(model, _similarity(u, v, source, mirror), centre, size)
    if model == "homography":
        return Warp(model, _homography(u, v, source), centre, size)
    matrix = np.stack(_basis(model, u, v), 1)
    # on coordinates from -1 to 1 the normal equations keep all digits that stars have
    terms = np.linalg.lstsq(matrix.T @ matrix, matrix.T @ np.stack(source, 1), rcond=None)[0]
    return Warp(model, np.asarray(terms, np.float64), centre, size)


def _similarity(u: F64, v: F64, source: Points, mirror: bool) -> F64:
    z = u + 1j * (-v if mirror else v)
    w = source[0] + 1j * source[1]
    middle = z.mean()
    a = (np.conj(z - middle) * (w - w.mean())).sum() / (np.abs(z - middle) ** 2).sum()
    b = w.mean() - a * middle
    side = -1.0 if mirror else 1.0
    return np.array([[b.real, b.imag], [a.real, a.imag], [-a.imag * side, a.real * side]])


def _homography(u: F64, v: F64, source: Points) -> F64:
    """Direct linear transform with one reweighting, sources scaled for the solution."""
    (s, t), (mx, my), size = scaled(source)
    zero, one = np.zeros_like(u), np.ones_like(u)
    weight = one
    h = np.eye(3)
    for _ in range(3):
        rows = np.concatenate(
            [
                np.stack([u, v, one, zero, zero, zero, -s * u, -s * v, -s], 1) * weight[:, None],
                np.stack([zero, zero, zero, u, v, one, -t * u, -t * v, -t], 1) * weight[:, None],
            ]
        )
        h = np.linalg.eigh(rows.T @ rows)[1][:, 0].reshape(3, 3)
        h = h / h[2, 2]
        weight = 1 / (h[2, 0] * u + h[2, 1] * v + 1)
    back = np.array([[size, 0, mx], [0, size, my], [0, 0, 1]])
    return back @ h


def choose(
    output: Points, source: Points, mirror: bool, seed: int = 0
) -> tuple[Warp, NDArray[np.bool_], float]:
    """The simplest model that no richer one beats by 5 % in five-fold cross-validation.

    Its map, the points that it keeps within 3.5 robust sigma, and the root mean square of their
    distances (px).
    """
    keep = np.ones(len(output[0]), bool)
    model = "similarity"
    for _ in range(3):
        model = _best_model(_cut(output, keep), _cut(source, keep), mirror, seed)
        warp = fit(model, _cut(output, keep), _cut(source, keep), mirror)
        off = _distance(warp, output, source)
        sigma = max(MAD_TO_SIGMA * float(np.median(off[keep])) / RAYLEIGH_MEDIAN, _SURE_PX)
        new = off < _KEEP[0] * sigma * _KEEP[1]
        if np.array_equal(new, keep) or new.sum() < _FEWEST:
            break
        keep = new
    warp = fit(model, _cut(output, keep), _cut(source, keep), mirror)
    off = _distance(warp, output, source)[keep]
    return warp, keep, float(np.sqrt((off**2).mean()))


def _best_model(output: Points, source: Points, mirror: bool, seed: int) -> str:
    count = len(output[0])
    if count > _JUDGES:
        some = np.random.default_rng(seed).permutation(count)[:_JUDGES]
        output, source, count = _cut(output, some), _cut(source, some), _JUDGES
    judge = Judge(output, source, seed)
    best, error = "similarity", np.inf
    for model in ORDER:
        if model != "similarity" and count < 1.5 * PARAMETERS[model] + 4:
            break
        if judge.least_seen < max(PARAMETERS[model] / 2, 3):
            continue
        found = foretold(judge, model, mirror)
        if model == "similarity" or found < _BETTER * error:
            best, error = model, found
    return best


def foretold(judge: Judge, model: str, mirror: bool) -> float:
    """Root mean square of distances of points that the fit did not see."""
    if model == "similarity":
        return judge.similarity(mirror)
    if model == "homography":
        return judge.homography()
    return judge.polynomial(np.stack(_basis(model, judge.u, judge.v), 1))


def _cut(points: Points, keep: NDArray[np.bool_] | NDArray[np.int64]) -> Points:
    return points[0][keep], points[1][keep]


def _distance(warp: Callable[[F64, F64], Points], output: Points, source: Points) -> F64:
    u, v = warp(*output)
    return np.hypot(u - source[0], v - source[1])

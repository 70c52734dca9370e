"""Cores and wings of stars told apart: a second, wider profile where one does not tell both. A
warp or a drizzle changes cores, air and mirrors change wings.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import scipy

from ..measure.profiles import (
    AMPLITUDE,
    BETA,
    F64,
    WIDTH,
    Second,
    Shape,
    X,
    Y,
    moffat,
    pixels_about,
    quadratic,
)
from ..numerics.robust import MAD_TO_SIGMA
from .star_fit import Sheet
from .star_shape import KnownStars

_LOUD: Final = 150.0  # sigma of a star whose wings can be seen
_FEWEST, _MOST = 4, 20
_REACH: Final = 6.0  # star widths
_CORE: Final = 2.0  # star widths within which all pixels count; further out one in a few
_THIN: Final = 5
_FLOOR: Final = 0.004  # of its light that a model is wrong by
_GAIN: Final = 8.0
"""Half of chi squared that a second profile must take away."""
_LOW: Final = tuple(float(v) for v in (np.log(1.3), -0.3, np.log(0.0005), np.log(1.2), np.log(1.3)))
_HIGH: Final = tuple(float(v) for v in (np.log(12.0), 0.3, np.log(0.5), np.log(6.0), np.log(6.0)))
_START: Final = tuple(float(v) for v in np.log([0.05, 2.0, 2.5]))
_EVALUATIONS: Final = 12


@dataclass(frozen=True)
class _Samples:
    """Pixels (N, P) of stars: places from their middles, values, errors (infinite: not counted)."""

    dx: F64
    dy: F64
    values: F64
    weight: F64
    p: F64
    ground: F64

    def misfit(self, second: Second | None, ln_beta: float, widen: float) -> F64:
        """What is left of every pixel, in sigma, when amplitudes and levels fit."""
        p = self.p.copy()
        p[:, BETA] = ln_beta
        p[:, WIDTH] += widen
        model = moffat(self.dx, self.dy, p, second)
        terms = np.concatenate([model[:, :, None], self.ground], axis=2)
        weighted = terms * self.weight[:, :, None]
        normal = np.matmul(weighted.transpose(0, 2, 1), terms)
        count = normal.shape[1]
        ridge = 1e-12 * np.trace(normal, axis1=1, axis2=2)[:, None] + 1e-30
        normal[:, range(count), range(count)] += ridge
        right = np.einsum("npi,np->ni", weighted, self.values)
        solved = np.linalg.solve(normal, right[:, :, None])
        left = self.values - np.matmul(terms, solved)[:, :, 0]
        return np.asarray((np.sqrt(self.weight) * left).ravel(), np.float64)

    def of(self, theta: F64) -> F64:
        """The same for the profiles that ``theta`` tells."""
        return self.misfit(_second(theta), float(theta[0]), float(theta[1]))

    def cost(self, theta: F64) -> float:
        """Half of what is left, squared, with outliers held."""
        return float(np.sum(np.sqrt(1 + self.of(theta) ** 2) - 1))

    def calmed(self, second: Second | None, ln_beta: float) -> _Samples:
        """The same with the texture of a nebula counted as noise, star by star."""
        left = self.misfit(second, ln_beta, 0.0).reshape(self.weight.shape)
        seen = np.where(self.weight > 0, np.abs(left), np.nan)
        rough = MAD_TO_SIGMA * np.nanmedian(seen, axis=1, keepdims=True)
        return replace(
            self, weight=self.weight / np.maximum(np.nan_to_num(rough, nan=1.0), 1.0) ** 2
        )


def learn_wings(sheet: Sheet, shape: Shape, known: KnownStars) -> Shape:
    """The shape with beta and a second profile from the wings of the brightest stars; unchanged
    where they are too few.
    """
    width = float(np.exp(shape.quadratics[0, 0]))
    telling = np.flatnonzero(known.telling(_LOUD, width))
    order = telling[np.argsort(known.p[telling, AMPLITUDE])[::-1]][:_MOST]
    if len(order) < _FEWEST:
        return shape
    samples = _samples(sheet, shape, known.p[order], width)
    samples = samples.calmed(shape.second, shape.ln_beta)
    before = _theta(shape)
    one = _fit(samples, before[:2])
    two = _fit(samples, before if len(before) > 2 else np.array([*before, *_START]))
    best, cost = before, samples.cost(before)
    for theta in (one, two):
        if samples.cost(theta) < cost - _GAIN:
            best, cost = theta, samples.cost(theta)
    quadratics = shape.quadratics.copy()
    quadratics[0, 0] += best[1]
    return replace(shape, quadratics=quadratics, ln_beta=float(best[0]), second=_second(best))


def _theta(shape: Shape) -> F64:
    """Ln beta, how much wider (ln), and the second profile's ln share, ln ratio and ln beta."""
    second = shape.second
    told = () if second is None else (np.log(second.share), second.ln_ratio, second.ln_beta)
    return np.array([shape.ln_beta, 0.0, *told])


def _second(theta: F64) -> Second | None:
    if len(theta) == 2:
        return None
    return Second(float(np.exp(theta[2])), float(theta[3]), float(theta[4]))


def _fit(samples: _Samples, start: F64) -> F64:
    low, high = (np.array(limit[: len(start)]) for limit in (_LOW, _HIGH))
    inside = np.clip(start, low + 1e-6, high - 1e-6)
    found = scipy.optimize.least_squares(
        samples.of, inside, bounds=(low, high), loss="soft_l1", max_nfev=_EVALUATIONS
    )
    return np.asarray(found.x, np.float64)


def _samples(sheet: Sheet, shape: Shape, p: F64, width: float) -> _Samples:
    reach = int(np.ceil(_REACH * width))
    gy, gx = (g.ravel() for g in np.mgrid[-reach : reach + 1, -reach : reach + 1])
    away = np.hypot(gx, gy)
    kept = (away <= _CORE * width) | ((away <= reach) & ((gx + 2 * gy) % _THIN == 0))
    gx, gy, away = gx[kept], gy[kept], away[kept]
    columns, rows, there = pixels_about(p, gx, gy, sheet.plane.shape)
    at = rows, columns
    there &= sheet.use[at]
    dx, dy = columns - p[:, X, None], rows - p[:, Y, None]
    own = shape.values(p, columns.astype(float), rows.astype(float))
    others = np.maximum(sheet.model[at] - own, 0)
    light = np.maximum(own, 0)
    variance = sheet.sigma[at].astype(float) ** 2 + sheet.kappa * (light + others)
    variance += (_FLOOR * light) ** 2 + (0.1 * others) ** 2
    weight = np.where(there, 1 / variance, 0.0)
    ground = quadratic(gx / reach, gy / reach)
    grounds = np.broadcast_to(ground, (len(p), *ground.shape))
    return _Samples(dx, dy, sheet.plane[at].astype(float) - others, weight, p.copy(), grounds)

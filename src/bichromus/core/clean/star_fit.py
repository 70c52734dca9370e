"""Stars fitted beside one another: each by Gauss-Newton steps jointly with its nearest neighbours
and a bending ground, many at once; and judged when they are fitted.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy
from numpy.typing import NDArray

from ..measure.profiles import (
    AMPLITUDE,
    BETA,
    E2,
    F64,
    PARAMETERS,
    WIDTH,
    Shape,
    X,
    Y,
    moffat_slopes,
    pixels_about,
    quadratic,
)
from ..model.planes import F32, Mask
from ..numerics.bands import ordered_parallel

_DISC: Final = 2.0  # star widths that are fitted
_NEIGHBOURS: Final = 3
_NEAR: Final = 4.0  # star widths within which a neighbour counts
_BATCH: Final = 64  # stars fitted at once: they stay in the cache
_THREADS: Final = 2
_FIT_ERROR: Final = 0.002
"""Share of its light that a model is wrong by, in the weights: .02 would spoil the amplitudes of
full stars (METHOD 6: study).
"""
_JUDGE_ERROR: Final = 0.02
_PLACE_PRIOR_PX: Final = 0.3  # of a neighbour, whose own fit places it
_OWN_WINGS: Final = 10_000.0
"""Sigma of a star that a shape a ten-thousandth off would leave a disc of; it has its own."""
_SEEN: Final = 0.8  # of what lies about a star, for wings of its own
_WINGS_OF_FULL: Final = (0.03, 0.015, 0.015, 0.06)
"""Least spread of ln FWHM, ellipse and ln beta of such stars, and of full ones."""
_BEND_AT_FULL: Final = 3.0
"""Sigma that the ground may bend by under a full core, whose flank it would take for itself."""
_FIXED, _FREE_BETA = 1e-4, 0.3  # spread of ln beta
_MOST_STEP: Final = (0.5, 0.3, 0.2, 0.3)  # px, ln FWHM, ellipse, ln beta
_NARROW_SHARE: Final = 1.8
"""Times that the noise of a fit is smaller than that of a filter on a quartic ground, for stars."""
_LOUDEST, _FAINTEST = 60.0, 4.0


@dataclass(frozen=True)
class Sheet:
    """What stars are fitted on: the plane, the model of all of them, the noise per pixel, the
    photon noise per unit of light, and which pixels tell anything.
    """

    plane: F32
    model: F32
    sigma: F32
    kappa: float
    use: Mask


@dataclass(frozen=True)
class Fitted:
    """Parameters (N, 7) after a step, their errors (N, 7), the share of the light that the star
    explains, and how far the step moved it (sigma of its amplitude and its place).
    """

    p: F64
    error: F64
    explained: F64
    moved: F64


def fit_stars(
    sheet: Sheet,
    shape: Shape,
    p: F64,
    which: NDArray[np.int64],
    full_px: F64,
    prior: float,
    free_beta: bool = False,
) -> Fitted:
    """One step for the stars ``which`` of all stars ``p`` (N, 7), which are in the model.
    ``prior`` is the spread of ln FWHM and ellipse about the shape of the field.
    """
    widths = np.exp(p[which, WIDTH])
    loud = _own_wings(sheet, p[which])
    further = np.where(loud, np.maximum(full_px[which], widths), full_px[which])
    reach = np.ceil(_DISC * widths + 1.5 * further).astype(int)
    near, full, own = _neighbours(p, which), full_px[which] > 0, (further > 0) | loud
    jobs = []
    for size in np.unique(reach):
        group = np.flatnonzero(reach == size)
        jobs += [(int(size), group[i : i + _BATCH]) for i in range(0, len(group), _BATCH)]

    def run(job: tuple[int, NDArray[np.int64]]) -> Fitted:
        size, part = job
        return _step(
            sheet, shape, p, which[part], near[part], full[part], own[part], size, prior, free_beta
        )

    steps = list(ordered_parallel(run, iter(jobs), min(_THREADS, max(1, len(jobs) // 2))))
    count = len(which)
    out = Fitted(
        np.empty((count, PARAMETERS)),
        np.empty((count, PARAMETERS)),
        np.zeros(count),
        np.zeros(count),
    )
    for (_, part), fitted in zip(jobs, steps, strict=True):
        out.p[part], out.error[part] = fitted.p, fitted.error
        out.explained[part], out.moved[part] = fitted.explained, fitted.moved
    return out


def _own_wings(sheet: Sheet, p: F64) -> Mask:
    """Which stars are so loud that their wings are their own, and seen on all sides."""
    height, width = sheet.sigma.shape
    y = np.clip(np.rint(p[:, Y]).astype(int), 0, height - 1)
    x = np.clip(np.rint(p[:, X]).astype(int), 0, width - 1)
    out = np.asarray(p[:, AMPLITUDE] > _OWN_WINGS * sheet.sigma[y, x], np.bool_)
    for n in np.flatnonzero(out):
        reach = int(np.ceil(_DISC * np.exp(p[n, WIDTH])))
        rows, columns = (slice(max(c - reach, 0), c + reach + 1) for c in (y[n], x[n]))
        out[n] = sheet.use[rows, columns].mean() > _SEEN
    return out


def _neighbours(p: F64, which: NDArray[np.int64]) -> NDArray[np.int64]:
    """The nearest stars of each, by number; -1 for none."""
    out = np.full((len(which), _NEIGHBOURS), -1)
    if len(p) < 2:
        return out
    places = p[:, X : Y + 1]
    count = min(_NEIGHBOURS + 1, len(p))
    away, number = (
        np.asarray(a) for a in scipy.spatial.cKDTree(places).query(places[which], count)
    )
    limit = _NEAR * np.exp(p[which, WIDTH])[:, None]
    for row, (distances, numbers) in enumerate(zip(away, number, strict=True)):
        kept = [
            n
            for d, n in zip(distances, numbers, strict=True)
            if n != which[row] and d < limit[row, 0]
        ]
        out[row, : len(kept[:_NEIGHBOURS])] = kept[:_NEIGHBOURS]
    return out


def _step(
    sheet: Sheet,
    shape: Shape,
    p: F64,
    which: NDArray[np.int64],
    near: NDArray[np.int64],
    full: Mask,
    own_wings: Mask,
    reach: int,
    prior: float,
    free_beta: bool,
) -> Fitted:
    own = p[which]
    columns, rows, inside, xx, yy = _pixels(own, reach, sheet.plane.shape)
    data = (sheet.plane[rows, columns] - sheet.model[rows, columns]).astype(np.float64)
    light = np.maximum(sheet.model[rows, columns].astype(float), 0)
    variance: F64 = sheet.sigma[rows, columns].astype(float) ** 2 + sheet.kappa * light
    use = sheet.use[rows, columns] & inside
    weight = _weights(use, variance + (_FIT_ERROR * light) ** 2)

    value, slopes = moffat_slopes(
        columns - own[:, X, None], rows - own[:, Y, None], own, shape.second
    )
    value = value + shape.left_at(columns - own[:, X, None], rows - own[:, Y, None])
    amplitude = own[:, AMPLITUDE, None, None]
    jacobian = [value[:, :, None], slopes * amplitude]
    for k in range(near.shape[1]):
        jacobian.append(_neighbour(p, near[:, k], columns, rows, shape))
    ground = quadratic(xx, yy)
    noise = np.median(sheet.sigma[rows, columns], axis=1).astype(float)
    jacobian.append(ground * noise[:, None, None])
    whole = np.concatenate(jacobian, axis=2)

    expected = np.concatenate(
        [shape.at(own[:, X], own[:, Y]), np.full((len(own), 1), shape.ln_beta)], 1
    )
    spread = np.full((len(own), 4), prior)
    spread[:, 3] = _FREE_BETA if free_beta else _FIXED
    spread[own_wings] = np.maximum(spread[own_wings], _WINGS_OF_FULL)
    penalty = np.zeros((len(own), whole.shape[2]))
    wanted = np.zeros_like(penalty)
    penalty[:, WIDTH : BETA + 1] = 1 / spread**2
    wanted[:, WIDTH : BETA + 1] = (expected - own[:, WIDTH:]) / spread**2
    for k in range(near.shape[1]):
        first = PARAMETERS + 3 * k
        penalty[:, first + 1 : first + 3] = 1 / _PLACE_PRIOR_PX**2
        penalty[:, first] = np.where(near[:, k] < 0, 1.0, 0.0)
    penalty[:, -5:] = full[:, None] / _BEND_AT_FULL**2
    delta, covariance = _solve(whole, weight, data, penalty, wanted)
    new, moved = _stepped(own, delta, covariance, np.exp(own[:, WIDTH]))
    error = np.sqrt(np.maximum(covariance[:, range(PARAMETERS), range(PARAMETERS)], 1e-30))
    trust = _weights(use, variance + (_JUDGE_ERROR * light) ** 2)
    explained = _explained(whole, trust, data, value * own[:, AMPLITUDE, None], delta)
    return Fitted(new, error, explained, moved)


def _weights(use: Mask, variance: F64) -> F64:
    return np.asarray(np.where(use, 1 / variance, 0.0), np.float64)


def _pixels(
    own: F64, reach: int, extent: tuple[int, ...]
) -> tuple[NDArray[np.int64], NDArray[np.int64], Mask, F64, F64]:
    """Pixels (N, P) of the discs about stars, which of them are on the plane, and their places in
    the disc from -1 to 1.
    """
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    inside = np.hypot(dx, dy) <= reach + 0.5
    dx, dy = dx[inside], dy[inside]
    return *pixels_about(own, dx, dy, extent), dx / reach, dy / reach


def _neighbour(
    p: F64,
    number: NDArray[np.int64],
    columns: NDArray[np.int64],
    rows: NDArray[np.int64],
    shape: Shape,
) -> F64:
    """Slopes of a neighbour by amplitude and place, nothing where there is none."""
    there = number >= 0
    q = p[np.maximum(number, 0)]
    out = np.zeros((*columns.shape, 3))
    if there.any():
        q = q[there]
        value, slopes = moffat_slopes(
            columns[there] - q[:, X, None],
            rows[there] - q[:, Y, None],
            q,
            shape.second,
            roughly=True,
        )
        out[there, :, 0] = value
        out[there, :, 1:] = slopes[:, :, :2] * q[:, AMPLITUDE, None, None]
    return out


def _solve(jacobian: F64, weight: F64, data: F64, penalty: F64, wanted: F64) -> tuple[F64, F64]:
    """Steps (N, K) and covariances (N, K, K) of weighted least squares with priors."""
    weighted = jacobian * weight[:, :, None]
    normal = np.matmul(weighted.transpose(0, 2, 1), jacobian)
    count = normal.shape[1]
    normal[:, range(count), range(count)] += penalty
    right = np.einsum("npi,np->ni", weighted, data) + wanted
    scale = np.sqrt(np.maximum(normal[:, range(count), range(count)], 1e-30))
    normal = normal / scale[:, :, None] / scale[:, None, :]
    normal[:, range(count), range(count)] += 1e-9
    inverse = np.linalg.inv(normal)
    delta = np.einsum("nij,nj->ni", inverse, right / scale) / scale
    return delta, inverse / scale[:, :, None] / scale[:, None, :]


def _stepped(own: F64, delta: F64, covariance: F64, width: F64) -> tuple[F64, F64]:
    """Parameters after a step that is held, and how far it moved them in sigma."""
    new = own.copy()
    step = delta[:, :PARAMETERS].copy()
    place, wide, ellipse, beta = _MOST_STEP
    step[:, X : Y + 1] = np.clip(step[:, X : Y + 1], -place, place)
    step[:, WIDTH] = np.clip(step[:, WIDTH], -wide, wide)
    step[:, WIDTH + 1 : E2 + 1] = np.clip(step[:, WIDTH + 1 : E2 + 1], -ellipse, ellipse)
    step[:, BETA] = np.clip(step[:, BETA], -beta, beta)
    new += step
    new[:, WIDTH + 1 : E2 + 1] = np.clip(new[:, WIDTH + 1 : E2 + 1], -0.6, 0.6)
    new[:, BETA] = np.clip(new[:, BETA], np.log(1.3), np.log(12.0))
    error = np.sqrt(np.maximum(covariance[:, AMPLITUDE, AMPLITUDE], 1e-30))
    moved = np.abs(step[:, AMPLITUDE]) / error
    snr = np.maximum(own[:, AMPLITUDE] / error, 1e-3)
    away = np.hypot(step[:, X], step[:, Y]) / width * snr
    return new, np.maximum(moved, away)


def _explained(jacobian: F64, weight: F64, data: F64, star: F64, delta: F64) -> F64:
    """How much better a ground with the star explains its disc than a ground alone, less what noise
    explains: 1 where all of it is the star.
    """
    ground = jacobian[:, :, -6:]
    beside = jacobian[:, :, PARAMETERS:-6]
    change = np.einsum("npk,nk->np", beside, delta[:, PARAMETERS:-6])
    alone = data + star - change
    fitted = data - np.einsum("npk,nk->np", jacobian, delta)
    count = (weight > 0).sum(1)
    with_star = (weight * fitted**2).sum(1)
    weighted = ground * weight[:, :, None]
    normal = np.matmul(weighted.transpose(0, 2, 1), ground)
    normal[:, range(6), range(6)] += 1e-9 * np.trace(normal, axis1=1, axis2=2)[:, None] + 1e-30
    right = np.einsum("npi,np->ni", weighted, alone)
    level = np.linalg.solve(normal, right[:, :, None])[:, :, 0]
    without = (weight * (alone - np.einsum("npk,nk->np", ground, level)) ** 2).sum(1)
    noise = np.maximum(count - 6 - 6, 1)
    gained = np.maximum(without - np.maximum(count - 6, 1), 1e-30)
    return np.asarray(1 - np.maximum(with_star - noise, 0) / gained, np.float64)


def judged(fitted: Fitted, shape: Shape, narrow: F64) -> Mask:
    """Which fits are stars: loud, explained by a star on a bending ground, no wider and no longer
    than the stars of the field (METHOD 6, *Judge*). ``narrow`` is how many sigma of noise and
    texture they stand out by as what is as narrow as a star: the bumps of a galaxy's arms are loud
    against the noise alone.
    """
    p, error = fitted.p, fitted.error
    snr = p[:, AMPLITUDE] / error[:, AMPLITUDE]
    expected = shape.at(p[:, X], p[:, Y])
    wide = np.maximum(p[:, WIDTH] - expected[:, 0], 0) / (error[:, WIDTH] + 0.05)
    off = p[:, WIDTH + 1 : E2 + 1] - expected[:, 1:]
    long = np.hypot(off[:, 0], off[:, 1]) / (
        np.hypot(error[:, WIDTH + 1], error[:, E2]) / np.sqrt(2) + 0.05
    )
    told = np.minimum(snr, _NARROW_SHARE * narrow)
    loud = 4.7 * np.log(np.clip(told, _FAINTEST, _LOUDEST) / 8)
    score = 4.5 + loud - 5 * (1 - fitted.explained) - 2 * wide - 1.3 * long
    return np.asarray((score > 0.5) & (snr > _FAINTEST), np.bool_)

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
    pixels_about,
    quadratic,
    slopes_beside,
)
from ..model.planes import F32, Mask
from ..numerics.bands import ordered_parallel
from .many_fits import GROUND, explained, solve

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
_MOST_GONE: Final = 0.6  # of the amplitude of a full star that one step may take
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
    # most stars have no neighbour: alike ones together have no columns for what is not there
    beside = (near >= 0).sum(1)
    jobs = []
    for size, count in np.unique(np.stack([reach, beside], 1), axis=0):
        group = np.flatnonzero((reach == size) & (beside == count))
        batches = [group[i : i + _BATCH] for i in range(0, len(group), _BATCH)]
        jobs += [(int(size), int(count), batch) for batch in batches]

    def run(job: tuple[int, int, NDArray[np.int64]]) -> Fitted:
        size, count, part = job
        others = near[part, :count]
        return _step(
            sheet, shape, p, which[part], others, full[part], own[part], size, prior, free_beta
        )

    steps = list(ordered_parallel(run, iter(jobs), min(_THREADS, max(1, len(jobs) // 2))))
    count = len(which)
    out = Fitted(
        np.empty((count, PARAMETERS)),
        np.empty((count, PARAMETERS)),
        np.zeros(count),
        np.zeros(count),
    )
    for (_, _, part), fitted in zip(jobs, steps, strict=True):
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
    """The nearest stars of each, by number, the nearest first; -1 for none."""
    out = np.full((len(which), _NEIGHBOURS), -1)
    if len(p) < 2:
        return out
    places = p[:, X : Y + 1]
    count = min(_NEIGHBOURS + 1, len(p))
    away, number = (
        np.asarray(a) for a in scipy.spatial.cKDTree(places).query(places[which], count)
    )
    near = (number != which[:, None]) & (away < _NEAR * np.exp(p[which, WIDTH])[:, None])
    first = np.argsort(~near, axis=1, kind="stable")[:, :_NEIGHBOURS]
    found = np.take_along_axis(np.where(near, number, -1), first, axis=1)
    out[:, : found.shape[1]] = found
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
    at = rows * sheet.plane.shape[1] + columns
    plane, model, sigma = (np.take(k, at) for k in (sheet.plane, sheet.model, sheet.sigma))
    data = (plane - model).astype(np.float64)
    light = np.maximum(model.astype(np.float64), 0)
    variance: F64 = sigma.astype(np.float64) ** 2 + sheet.kappa * light
    use = np.take(sheet.use, at) & inside
    weight = _weights(use, variance + (_FIT_ERROR * light) ** 2)

    dx, dy = columns - own[:, X, None], rows - own[:, Y, None]
    value, slopes = slopes_beside(dx, dy, own, shape.second)
    value += shape.left_at(dx, dy)
    first = PARAMETERS + 3 * near.shape[1]
    whole: F32 = np.empty((len(own), first + GROUND, value.shape[1]), np.float32)
    whole[:, AMPLITUDE] = value
    np.multiply(slopes, _as_light(own), out=whole[:, X:PARAMETERS])
    for k in range(near.shape[1]):
        _put_neighbour(p[near[:, k]], columns, rows, shape, whole[:, 3 * k + PARAMETERS :])
    noise = np.median(sigma, axis=1)
    np.multiply(quadratic(xx, yy).T.astype(np.float32), noise[:, None, None], out=whole[:, first:])

    expected = np.concatenate(
        [shape.at(own[:, X], own[:, Y]), np.full((len(own), 1), shape.ln_beta)], 1
    )
    spread = np.full((len(own), 4), prior)
    spread[:, 3] = _FREE_BETA if free_beta else _FIXED
    spread[own_wings] = np.maximum(spread[own_wings], _WINGS_OF_FULL)
    penalty = np.zeros(whole.shape[:2])
    wanted = np.zeros_like(penalty)
    penalty[:, WIDTH : BETA + 1] = 1 / spread**2
    wanted[:, WIDTH : BETA + 1] = (expected - own[:, WIDTH:]) / spread**2
    for k in range(near.shape[1]):
        place = PARAMETERS + 3 * k + 1
        penalty[:, place : place + 2] = 1 / _PLACE_PRIOR_PX**2
    penalty[:, 1 - GROUND :] = full[:, None] / _BEND_AT_FULL**2
    delta, spread2 = solve(whole, weight, data, penalty, wanted, PARAMETERS)
    error = np.sqrt(np.maximum(spread2, 1e-30))
    step = delta[:, :PARAMETERS].copy()
    step[full] *= _damping(own[full], step[full])[:, None]
    new, moved = _stepped(own, step, error[:, AMPLITUDE], np.exp(own[:, WIDTH]))
    trust = _weights(use, variance + (_JUDGE_ERROR * light) ** 2)
    told = explained(whole, trust, data, value * own[:, AMPLITUDE, None], delta, PARAMETERS)
    return Fitted(new, error, told, moved)


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


def _as_light(p: F64) -> F32:
    """Amplitudes of stars (N, 7) beside what is per amplitude (N, n, P)."""
    return p[:, AMPLITUDE, None, None].astype(np.float32)


def _put_neighbour(
    p: F64, columns: NDArray[np.int64], rows: NDArray[np.int64], shape: Shape, out: F32
) -> None:
    """Slopes of neighbours (N, 7) by amplitude and place, as the first three of ``out``
    (N, n, P).
    """
    dx, dy = columns - p[:, X, None], rows - p[:, Y, None]
    value, slopes = slopes_beside(dx, dy, p, shape.second, roughly=True)
    out[:, 0] = value
    np.multiply(slopes[:, :2], _as_light(p), out=out[:, 1:3])


def _damping(own: F64, step: F64) -> F64:
    """By how much the steps (N, 7) of full stars are shortened (N,). Amplitude and width of a star
    that shows no more than its flanks change together or not at all: were only one of them held,
    the other would overshoot, and the next step back, without end.
    """
    place, wide, ellipse, beta = _MOST_STEP
    limits = np.array([place, place, wide, ellipse, ellipse, beta])
    over = np.abs(step[:, X:]) / limits
    gone = -step[:, AMPLITUDE] / np.maximum(_MOST_GONE * own[:, AMPLITUDE], 1e-30)
    return np.asarray(1 / np.maximum(np.maximum(over.max(axis=1, initial=0), gone), 1), np.float64)


def _stepped(own: F64, step: F64, error: F64, width: F64) -> tuple[F64, F64]:
    """Parameters after a step (N, 7) that is held, and how far it moved them in sigma of the
    amplitude, whose ``error`` is given, and of the place.
    """
    new, step = own.copy(), step.copy()
    place, wide, ellipse, beta = _MOST_STEP
    step[:, X : Y + 1] = np.clip(step[:, X : Y + 1], -place, place)
    step[:, WIDTH] = np.clip(step[:, WIDTH], -wide, wide)
    step[:, WIDTH + 1 : E2 + 1] = np.clip(step[:, WIDTH + 1 : E2 + 1], -ellipse, ellipse)
    step[:, BETA] = np.clip(step[:, BETA], -beta, beta)
    new += step
    new[:, WIDTH + 1 : E2 + 1] = np.clip(new[:, WIDTH + 1 : E2 + 1], -0.6, 0.6)
    new[:, BETA] = np.clip(new[:, BETA], np.log(1.3), np.log(12.0))
    moved = np.abs(step[:, AMPLITUDE]) / error
    snr = np.maximum(own[:, AMPLITUDE] / error, 1e-3)
    away = np.hypot(step[:, X], step[:, Y]) / width * snr
    return new, np.maximum(moved, away)


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

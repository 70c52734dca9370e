"""Elliptical Moffat profiles (Moffat 1969) fitted to many stars at once."""

from __future__ import annotations

from typing import Final

import numpy as np
import scipy

from ..model.planes import F32

_ROUNDS: Final = 25
_STILL, _SETTLED = 1e-5, 4
"""Share of what is left by which a round must better it, and rounds without, after which a fit
has settled.
"""
_AT_ONCE: Final = 24  # stamps reckoned at once: their slopes stay in the cache
_STAMP_OF_BETA: Final = 2.4  # where the wings are known, they need not be seen
_TELL_BETA: Final = 120  # stars: the median of so many is as sure as a width asks for
_STAMP: Final = 3.2  # star widths from the middle of a stamp to its edge
_ALONE: Final = 4  # star widths to the next star
_FAINT_NEIGHBOUR: Final = 0.02  # of a star: one fainter than that does not change its width
_UNCLIPPED: Final = 0.7  # of the top value
_LEAST_AMPLITUDE: Final = 0.2  # of the stamp's peak
_LN_BETA: Final = (0.2, 2.8)  # outside, a fit has run off


def moffat_widths(
    plane: F32,
    x: np.ndarray,
    y: np.ndarray,
    width: float,
    saturation: float | None,
    most: int = 60,
    flux: np.ndarray | None = None,
) -> np.ndarray:
    """Rows (smaller FWHM, larger FWHM, beta) of fits to up to ``most`` bright, unsaturated, lonely
    stars.

    ``x`` and ``y`` are integer peak positions, brightest first; ``width`` is a first FWHM in
    pixels. With ``flux`` a neighbour that is far fainter does not count.
    """
    reach = int(np.ceil(_STAMP * width))
    stamps, _ = _stamps_of(plane, x, y, reach, _ALONE * width, saturation, most, flux)
    if not len(stamps):
        return np.empty((0, 3))
    return _fit(stamps, width)


def moffat_shapes(
    plane: F32,
    x: np.ndarray,
    y: np.ndarray,
    width: float,
    saturation: float | None,
    most: int,
    beta: float | None = None,
) -> np.ndarray:
    """Rows (x, y, smaller FWHM, larger FWHM, angle of the long axis in radians) of fits with one
    ``beta`` for all, the median of free fits where None. The order of the stars is kept; those that
    cannot be fitted are left out.
    """
    reach = int(np.ceil((_STAMP if beta is None else _STAMP_OF_BETA) * width))
    stamps, at = _stamps_of(plane, x, y, reach, _ALONE * width, saturation, most)
    if not len(stamps):
        return np.empty((0, 5))
    if beta is None:
        beta = float(np.exp(np.median(_solve(stamps[:_TELL_BETA], width)[:, 7])))
    p = _solve(stamps, width, beta)
    small, large, good = _axes(p, width)
    angle = np.arctan2(-p[good, 6], p[good, 5] - p[good, 4]) / 2
    return np.stack([at[0][good] + p[good, 1], at[1][good] + p[good, 2], small, large, angle], 1)


def _stamps_of(
    plane: F32,
    x: np.ndarray,
    y: np.ndarray,
    reach: int,
    apart: float,
    saturation: float | None,
    most: int,
    flux: np.ndarray | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Stamps (N, side, side) of unsaturated lonely stars, and their places (2, N)."""
    stamps: list[np.ndarray] = []
    found: list[tuple[int, int]] = []
    height, wide = plane.shape
    places = np.stack([x, y], 1)
    tree = scipy.spatial.cKDTree(places) if len(x) else None
    for number, (xi, yi) in enumerate(zip(x.astype(int), y.astype(int), strict=True)):
        if tree is None or len(stamps) >= most:
            break
        if not (reach <= xi < wide - reach and reach <= yi < height - reach):
            continue
        part = plane[yi - reach : yi + reach + 1, xi - reach : xi + reach + 1]
        if saturation is not None and part.max() > _UNCLIPPED * saturation:
            continue
        near = tree.query_ball_point(places[number], apart)
        if flux is not None:
            near = [n for n in near if flux[n] > _FAINT_NEIGHBOUR * flux[number]]
        if len(near) == 1:
            stamps.append(part.astype(float))
            found.append((xi, yi))
    return np.array(stamps), np.array(found, float).reshape(-1, 2).T


def _fit(stamps: np.ndarray, width: float) -> np.ndarray:
    """Smaller and larger FWHM and beta of each stamp that a profile fits."""
    p = _solve(stamps, width)
    small, large, good = _axes(p, width)
    return np.stack([small, large, np.exp(p[good, 7])], 1)


def _solve(stamps: np.ndarray, width: float, beta: float | None = None) -> np.ndarray:
    """Levenberg-Marquardt on all stamps together; parameters amplitude, x, y, base, a, b, c, ln
    beta.

    The profile is base + amplitude (1 + a dx^2 + b dy^2 + c dx dy)^-beta on data scaled to peak 1;
    with ``beta`` given it stays.
    """
    n, side, _ = stamps.shape
    reach = side // 2
    yy, xx = (g.ravel().astype(float) for g in np.mgrid[-reach : reach + 1, -reach : reach + 1])
    data = stamps.reshape(n, -1)
    floor = np.median(data, axis=1, keepdims=True)
    data = (data - floor) / np.maximum(data[:, [data.shape[1] // 2]] - floor, 1e-30)
    start = 4 * (2 ** (1 / 3.0) - 1) / width**2
    p = np.tile([1.0, 0, 0, 0, start, start, 0, np.log(beta or 3.0)], (n, 1))
    damping, settled = np.full(n, 1e-2), np.zeros(n, int)
    normal, gradient, cost = _equations(p, xx, yy, data, beta is not None)
    for _ in range(_ROUNDS):
        on = np.flatnonzero(settled < _SETTLED)  # the others are done
        if not on.size:
            break
        diagonal = np.einsum("nii->ni", normal[on])
        damped = normal[on] + (damping[on, None] * diagonal + 1e-12)[:, :, None] * np.eye(8)
        trial = p[on] - np.linalg.solve(damped, gradient[on, :, None])[:, :, 0]
        trial[:, 4:6] = np.clip(trial[:, 4:6], 1e-4, 30)
        trial[:, 7] = np.clip(trial[:, 7], 0.1, 3.0)
        new = _equations(trial, xx, yy, data[on], beta is not None)
        better = new[2] < cost[on]
        gained = np.where(better, cost[on] - new[2], 0.0) > _STILL * cost[on]
        # a step that was taken and gained next to nothing tells more than one that was refused
        settled[on] = np.where(gained, 0, settled[on] + np.where(better, 2, 1))
        damping[on] = np.clip(np.where(better, damping[on] / 4, damping[on] * 6), 1e-9, 1e6)
        for known, found in zip((p, normal, gradient, cost), (trial, *new), strict=True):
            known[on[better]] = found[better]
    return p


def _equations(
    p: np.ndarray, xx: np.ndarray, yy: np.ndarray, data: np.ndarray, fixed: bool
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Normal matrices (N, 8, 8), right sides (N, 8) and sums of squares (N,) of profiles."""
    parts = [
        _normal(*_model(p[part], xx, yy, data[part], fixed))
        for part in (slice(i, i + _AT_ONCE) for i in range(0, len(p), _AT_ONCE))
    ]
    normal, gradient, cost = (np.concatenate(found) for found in zip(*parts, strict=True))
    return normal, gradient, cost


def _normal(
    residual: np.ndarray, jacobian: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    # steps that run away are taken back: what they overflow to is not below what was
    with np.errstate(over="ignore", invalid="ignore"):
        normal = jacobian @ jacobian.transpose(0, 2, 1)
        gradient = (jacobian @ residual[:, :, None])[:, :, 0]
        return normal, gradient, (residual**2).sum(1)


def _model(
    p: np.ndarray, xx: np.ndarray, yy: np.ndarray, data: np.ndarray, fixed: bool
) -> tuple[np.ndarray, np.ndarray]:
    """What the profiles leave of stamps (N, P), and their slopes (N, 8, P)."""
    amplitude, x0, y0, base, a, b, c, ln_beta = (column[:, None] for column in p.T)
    beta = np.exp(ln_beta)
    dx, dy = xx - x0, yy - y0
    u = np.maximum(1 + a * dx * dx + b * dy * dy + c * dx * dy, 1e-3)
    ln_u = np.log(u)
    profile = np.exp(-beta * ln_u)
    slope = -amplitude * beta * profile / u  # d(model)/du
    jacobian = np.empty((len(p), 8, u.shape[1]))
    jacobian[:, 0] = profile
    jacobian[:, 1] = slope * -(2 * a * dx + c * dy)
    jacobian[:, 2] = slope * -(2 * b * dy + c * dx)
    jacobian[:, 3] = 1.0
    slope_x = slope * dx
    jacobian[:, 4] = slope_x * dx
    jacobian[:, 5] = slope * dy * dy
    jacobian[:, 6] = slope_x * dy
    jacobian[:, 7] = 0.0 if fixed else -amplitude * profile * ln_u * beta
    return base + amplitude * profile - data, jacobian


def _axes(p: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Smaller and larger FWHM of good fits, and which are good."""
    amplitude, x0, y0, _, a, b, c, ln_beta = p.T
    middle, spread = (a + b) / 2, np.hypot((a - b) / 2, c / 2)
    good = (
        (amplitude > _LEAST_AMPLITUDE)
        & (np.hypot(x0, y0) < width)
        & (middle - spread > 1e-6)
        & (ln_beta > _LN_BETA[0])
        & (ln_beta < _LN_BETA[1])
    )
    k = 2 * np.sqrt(2 ** np.exp(-ln_beta[good]) - 1)
    small = k / np.sqrt((middle + spread)[good])
    large = k / np.sqrt((middle - spread)[good])
    return small, large, good

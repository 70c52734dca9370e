"""White from the field's own stars: how much light the same stars leave in red, green and blue."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy

from ..model.measures import Stars
from ..model.planes import F32
from ..numerics.robust import weighted_median

ENOUGH: Final = 80
"""Stars from which the middle one tells the white to about a percent (METHOD: median ratios)."""
LEAST: Final = 12
"""Fewer stars tell no white: one odd colour would carry it away."""
_APERTURE: Final = 1.8  # star widths: all but the far wings, which share their colour
_SKY: Final = (2.6, 4.0)  # star widths: inner and outer edge of the ring that tells the sky
_ALONE: Final = 5.0  # star widths to the next star
_UNCLIPPED: Final = 0.75  # of the top value
_CLEAR: Final = 20.0  # sigma of a star's light in each channel
_MOST: Final = 1500  # the brightest stars tell it, more add nothing
_OWN_SCATTER: Final = 0.15  # of a ratio: stars differ in colour however well they are measured


@dataclass(frozen=True)
class StarWhite:
    """``gains`` of R, G and B, green 1, that make the middle star white; ``error`` relative, of the
    worse gain; ``stars`` that told it.
    """

    gains: tuple[float, float, float]
    stars: int
    error: float


@dataclass(frozen=True)
class StarPlane:
    """A channel with its stars in it: the plane (H, W), its noise and its top value."""

    plane: F32
    sigma: float
    top: float | None = None


def star_white(planes: Mapping[str, StarPlane], stars: Stars) -> StarWhite | None:
    """White of R, G and B planes on one grid, by the weighted median of the light of unsaturated,
    isolated stars; None under 12 of them.

    A star weighs by the inverse variance of its ratio, with the scatter of star colours added, so
    that no single bright one decides.
    """
    if stars.fwhm_px is None or not stars.x:
        return None
    x, y = np.array(stars.x), np.array(stars.y)
    keep = _lonely(x, y, _ALONE * stars.fwhm_px)[:_MOST]
    x, y = x[keep], y[keep]
    found = [star_light(planes[n], x, y, stars.fwhm_px) for n in ("R", "G", "B")]
    light = np.stack([f for f, _, _ in found])
    error = np.stack([e for _, e, _ in found])
    clear = np.all(light > _CLEAR * error, 0) & ~np.any([full for _, _, full in found], 0)
    if clear.sum() < LEAST:
        return None
    light, error = light[:, clear], error[:, clear]
    gains: list[float] = []
    errors: list[float] = []
    for index in (0, 2):
        ratio = np.log(light[1] / light[index])
        spread = np.hypot(error[1] / light[1], error[index] / light[index])
        middle, of_it = weighted_median(ratio, 1 / (spread**2 + _OWN_SCATTER**2))
        gains.append(float(np.exp(middle)))
        errors.append(of_it)
    return StarWhite((gains[0], 1.0, gains[1]), int(clear.sum()), float(max(errors)))


def star_light(
    channel: StarPlane, x: np.ndarray, y: np.ndarray, fwhm_px: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Light above the local sky of stars at ``x``, ``y``, its error, and whether a core is full."""
    reach = int(np.ceil(_SKY[1] * fwhm_px))
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    away = np.hypot(dx, dy)
    inside = np.clip(_APERTURE * fwhm_px + 0.5 - away, 0, 1)
    ring = (away >= _SKY[0] * fwhm_px) & (away <= _SKY[1] * fwhm_px)
    height, width = channel.plane.shape
    rows = np.clip(np.rint(y).astype(int)[:, None, None] + dy, 0, height - 1)
    columns = np.clip(np.rint(x).astype(int)[:, None, None] + dx, 0, width - 1)
    stamps = np.nan_to_num(np.asarray(channel.plane[rows, columns], np.float64))
    sky = np.median(stamps[:, ring], axis=1)
    light = ((stamps - sky[:, None, None]) * inside).sum((1, 2))
    area = float((inside**2).sum())
    error = np.full(len(x), channel.sigma * np.sqrt(area * (1 + area / max(ring.sum(), 1))))
    full = np.zeros(len(x), bool)
    if channel.top is not None:
        full = stamps.max((1, 2)) > _UNCLIPPED * channel.top
    return light, error, full


def _lonely(x: np.ndarray, y: np.ndarray, apart: float) -> np.ndarray:
    """Indices of stars without another within ``apart`` px, in their order."""
    points = np.stack([x, y], 1)
    if len(points) < 2:
        return np.arange(len(points))
    away = np.asarray(scipy.spatial.cKDTree(points).query(points, k=2)[0])
    return np.flatnonzero(away[:, 1] > apart)

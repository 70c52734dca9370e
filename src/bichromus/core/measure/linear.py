"""Is a picture still linear? Stars tell: stretching makes the bright ones wide."""

from __future__ import annotations

from typing import Final

import numpy as np
import scipy

from ..model.errors import NotLinear
from ..model.measures import Stars
from ..model.planes import F32, Mask, Picture
from ..numerics.robust import MAD_TO_SIGMA
from .profiles import F64

_WIDER: Final = 1.13  # linear stacks lie at .9 to 1.08, roots and arcsinhs of them from 1.14 up
_ENOUGH: Final = 24
_MOST: Final = 1500
_UNCLIPPED: Final = 0.8  # of the top value
_BRIGHT: Final = 10.0  # sigma of a star whose half maximum stands clear of the sky
_REACH: Final = 2.5  # star widths around the peak in which its area is counted
_ADDS: Final = 0.1  # of a star's light, from which a neighbour adds to its area
_FLAT: Final = (0.97, 3.5, 0.07)
"""Pixels within so much of the peak: a star has no more than the area (in squared widths) of its
round top.
"""
_FEWEST: Final = 10
_BRIGHTEST: Final = 25  # part of the stars that is the brightest: the others hardly stand above sky


def width_growth(plane: F32, stars: Stars, saturation: float | None) -> float | None:
    """Median width of the bright stars over that of faint ones; None when too few stars can be
    compared.

    Linear data give 1 within a tenth: every star has the same profile.
    """
    if stars.fwhm_px is None or stars.count < _ENOUGH:
        return None
    reach = int(np.ceil(3.5 * stars.fwhm_px))
    x, y, flux = (np.array(a) for a in (stars.x, stars.y, stars.flux))
    lonely = _lonely(x, y, flux, (_REACH + 0.7) * stars.fwhm_px)
    x, y = np.rint(x[lonely]).astype(int), np.rint(y[lonely]).astype(int)
    inside = (
        (x >= reach) & (y >= reach) & (x < plane.shape[1] - reach) & (y < plane.shape[0] - reach)
    )
    x, y = x[inside][:_MOST], y[inside][:_MOST]
    if x.size < _ENOUGH:
        return None
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    stamps = plane[y[:, None, None] + dy, x[:, None, None] + dx]
    floor = np.median(stamps, axis=(1, 2), keepdims=True)
    above = stamps - floor
    peak = above[:, reach - 1 : reach + 2, reach - 1 : reach + 2].max((1, 2))
    noise = MAD_TO_SIGMA * np.median(np.abs(above), axis=(1, 2))
    top = np.inf if saturation is None else _UNCLIPPED * saturation
    good = (peak > _BRIGHT * noise) & (peak + floor[:, 0, 0] < top)
    flat = (above > _FLAT[0] * peak[:, None, None]).sum((1, 2))
    good &= flat < _FLAT[1] + _FLAT[2] * stars.fwhm_px**2  # full, whatever the top value is
    if good.sum() < _ENOUGH:
        return None
    # pixels above half the peak, within the star's neighbourhood: the area of a profile, whatever
    # its height
    disc = dx * dx + dy * dy <= (_REACH * stars.fwhm_px) ** 2
    area = ((above > 0.5 * peak[:, None, None]) & disc).sum((1, 2))[good]
    order = np.argsort(peak[good])
    faint = area[order[: max(_FEWEST, order.size // 4)]]
    bright = area[order[-max(_FEWEST, order.size // _BRIGHTEST) :]]
    return float(np.sqrt(bright.mean() / max(float(faint.mean()), 1.0)))


def _lonely(x: F64, y: F64, flux: F64, reach: float) -> Mask:
    """Which stars, the brightest first, have none within ``reach`` that adds to their area."""
    pairs = scipy.spatial.cKDTree(np.stack([x, y], 1)).query_pairs(reach, output_type="ndarray")
    out = np.ones(len(x), np.bool_)
    bright, faint = pairs.min(1), pairs.max(1)
    out[faint] = False
    out[bright[flux[faint] > _ADDS * flux[bright]]] = False
    return out


def require_linear(picture: Picture, plane: F32, stars: Stars) -> None:
    """Raises NotLinear for a picture that was stretched before."""
    growth = width_growth(plane, stars, picture.header.saturation)
    if growth is not None and growth > _WIDER:
        raise NotLinear(
            "This stack is already stretched",
            why=f"its bright stars are {growth:.1f} times as wide as its faint ones",
            do="Give the linear stack, before any stretching",
            file=picture.file,
        )

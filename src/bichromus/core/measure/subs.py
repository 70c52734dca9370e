"""Single exposures graded within their group: light, width, shape, sky, lines across."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..numerics.robust import MAD_TO_SIGMA, clipped_sigma
from ..numerics.starlet import WHITE, details
from .moffat import moffat_widths
from .stars import find_peaks, find_stars, rough_width, zero_sum
from .trail import distance_from, find_trail, trail_factor

_MOST_SIDE: Final = 1400  # stars are measured in the middle of larger frames
STARS: Final = 60
_USUAL_PX: Final = 3.0
_SMEARED: Final = 2.0
MATCH_PX: Final = 5.0
SHARPEST_PX: Final = 1.2
_GUESS_HOLDS: Final = (0.75, 1.33)  # a width found within this of the guess was found with it
_UNCLIPPED: Final = 0.7  # of the top value: the flux of a star is whole
_APERTURE: Final = 2.2  # star widths
_RING: Final = (1.4, 1.9)  # of the aperture's radius
_HOT: Final = (8.0, 0.12)  # sigma above its neighbours, and their share of it: no star is so sharp


@dataclass(frozen=True)
class SubMeasure:
    """Figures of one sub by itself. ``places`` are peaks, brightest first, and ``flux`` their light
    (NaN at the edge or near saturation), for finding the same stars in other subs.
    """

    background: float
    noise: float
    stars: int
    fwhm_px: float | None
    ellipticity: float | None
    trail: bool
    places: tuple[np.ndarray, np.ndarray] = field(repr=False, compare=False)
    flux: np.ndarray = field(repr=False, compare=False)


@dataclass(frozen=True)
class SubParts:
    """What of a sub is looked at: its middle in full (its corner at ``left``, ``top``), every few
    pixels of the whole, and the whole made ``factor`` times smaller.
    """

    middle: F32
    sparse: F32
    small: F32
    factor: int
    left: int = 0
    top: int = 0


def middle_of(shape: tuple[int, int]) -> tuple[int, int, int, int]:
    """y0, y1, x0, x1 of the part in which stars are measured."""
    y, x = (max((n - _MOST_SIDE) // 2, 0) for n in shape)
    return y, min(y + _MOST_SIDE, shape[0]), x, min(x + _MOST_SIDE, shape[1])


def parts_of(plane: F32) -> SubParts:
    """The parts of a sub that is in memory (H, W)."""
    y0, y1, x0, x1 = middle_of(plane.shape)
    factor = trail_factor(plane.shape)
    size = (plane.shape[1] // factor, plane.shape[0] // factor)
    small = np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.float32)
    return SubParts(
        np.ascontiguousarray(plane[y0:y1, x0:x1]), plane[::3, ::3], small, factor, x0, y0
    )


def measure_sub(
    plane: F32 | SubParts, saturation: float | None = None, width_px: float | None = None
) -> SubMeasure:
    """Background, noise, stars, width and shape of a sub (H, W), or of its parts.

    ``width_px`` is the star size to start from, such as that of the sub before; it saves time.
    """
    parts = plane if isinstance(plane, SubParts) else parts_of(plane)
    middle = without_hot_pixels(parts.middle)
    background = float(np.median(parts.sparse))
    found = find_stars(middle, saturation, width=width_px)
    if (
        width_px
        and found.fwhm_px
        and not _GUESS_HOLDS[0] < found.fwhm_px / width_px < _GUESS_HOLDS[1]
    ):
        found = find_stars(middle, saturation, width=found.fwhm_px)  # the guess was far off
    width = max(found.fwhm_px or width_px or _USUAL_PX, SHARPEST_PX)
    peaks = find_peaks(zero_sum(middle, width), width)
    trail = find_trail(parts.small, _noise(middle), parts.factor)
    order = np.argsort(peaks.strength)[::-1]
    if trail is not None:  # a line makes peaks of its own
        order = order[
            distance_from(peaks.x[order] + parts.left, peaks.y[order] + parts.top, trail)
            > 3 * width + 4
        ]
    order = order[:200]
    x, y = peaks.x[order], peaks.y[order]
    # no round star is left where the mount ran away: smears are told by wider stamps
    widths = (width,) if found.fwhm_px else (width, rough_width(middle), _SMEARED * width)
    fits = max((moffat_widths(middle, x, y, w, saturation) for w in widths), key=len)
    fwhm = ellipticity = None
    if len(fits) >= 3:
        fwhm = float(np.median((fits[:, 0] + fits[:, 1]) / 2))
        ellipticity = float(np.median(1 - fits[:, 0] / fits[:, 1]))
    top = np.inf if saturation is None else _UNCLIPPED * saturation
    flux = np.array(
        [
            _aperture(middle, a, b, _APERTURE * (fwhm or width), top)
            for a, b in zip(x, y, strict=True)
        ]
    )
    return SubMeasure(
        background, _noise(middle), found.count, fwhm, ellipticity, trail is not None, (x, y), flux
    )


def _noise(middle: F32) -> float:
    return clipped_sigma(details(middle, 1)[0][::2, ::2]) / WHITE[0]


def without_hot_pixels(plane: F32) -> F32:
    """Single pixels far above all around them set to the median of their neighbourhood: no star is
    so sharp.
    """
    median = np.asarray(cv2.medianBlur(plane, 3), np.float32)
    over = plane - median
    step = np.median(np.abs(over[::4, ::4])) * MAD_TO_SIGMA
    level = np.float32(np.median(plane[::4, ::4]))
    hot = (over > _HOT[0] * step) & (median - level < _HOT[1] * (plane - level))
    return np.where(hot, median, plane).astype(np.float32)


def _aperture(plane: F32, x: float, y: float, radius: float, top: float) -> float:
    """Flux in a disc above the median of the ring around it; NaN at the edge or where a pixel
    reaches ``top``.
    """
    reach = int(np.ceil(radius * _RING[1])) + 1
    xi, yi = round(float(x)), round(float(y))
    if not (reach <= xi < plane.shape[1] - reach and reach <= yi < plane.shape[0] - reach):
        return float("nan")
    part = plane[yi - reach : yi + reach + 1, xi - reach : xi + reach + 1]
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    away = np.hypot(dx, dy)
    ring = part[(away > _RING[0] * radius) & (away <= _RING[1] * radius)]
    disc = part[away <= radius]
    if not ring.size or not disc.size:
        return float("nan")
    return float((disc - np.median(ring)).sum()) if disc.max() < top else float("nan")

"""How much brighter one stack is than another: from stars, from the nebula, and which of them is
believed.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..measure.noise import measure_noise
from ..measure.profiles import F64
from ..measure.run import bright_mask
from ..measure.stars import find_stars
from ..model.errors import NotEnoughData
from ..model.measures import Noise, Stars
from ..model.planes import F32, Mask, Picture
from ..numerics.poly import Poly, fit_poly
from ..numerics.robust import MAD_TO_SIGMA
from ..numerics.smoothing import fill

BIN: Final = 32
_ENOUGH_STARS: Final = 8
_APART: Final = 0.10
_MOST_APART: Final = 4.0
"""Times that filters of different width make of stars against nebula at most; more is a fault."""
_MOST_STARS: Final = 1500
_ALONE: Final = 4.0  # star widths to the next star: its light stays out of the aperture
_APERTURE: Final = 1.6  # star widths; holds nearly all light, and the same share in both stacks
_RING: Final = (1.25, 1.7)  # of the aperture's radius: where its sky is told
_UNCLIPPED: Final = 0.8  # of the top value
_AT_ONCE: Final = 200_000  # pixels
_BRIGHT: Final = 15.0  # sigma of an aperture's flux
_HUBER: Final = 1.345
_TUKEY: Final = 4.685
"""Huber's constant for 95 % efficiency (Huber 1964)."""
_ENOUGH_BINS: Final = 40
_NEBULA: Final = 9.0  # variance of the bins over that of their noise
_SETTLED: Final = 1e-5


@dataclass(frozen=True)
class KnownStars:
    """What is known of one stack before it is pooled. ``bins`` are star-free means over 32 x 32
    pixels, NaN where hardly anything is seen, ``bin_noise`` their noise.
    """

    noise: Noise
    stars: Stars
    bins: np.ndarray
    bin_noise: float


@dataclass(frozen=True)
class FluxScale:
    """Flux of a stack over the reference's, its error, where it comes from, and a warning
    or none.
    """

    scale: float
    error: float
    origin: str
    warning: str = ""


def measure_stars(picture: Picture) -> KnownStars:
    """Noise, stars and bins of a mono stack."""
    plane = fill(picture.data, ~np.isfinite(picture.data))
    stars = find_stars(plane, picture.header.saturation)
    mask = bright_mask(plane, stars, picture.header.saturation)
    noise = measure_noise(picture.data, avoid=mask)
    return KnownStars(noise, stars, binned(picture.data, mask), noise.best / BIN)


def stars_from(picture: Picture, stars: Stars, noise: Noise) -> KnownStars:
    """The same from stars and noise that were measured before: only the bins are new."""
    plane = fill(picture.data, ~np.isfinite(picture.data))
    mask = bright_mask(plane, stars, picture.header.saturation)
    return KnownStars(noise, stars, binned(picture.data, mask), noise.best / BIN)


def binned(plane: F32, avoid: Mask) -> np.ndarray:
    """Means of what is clear in bins of 32 pixels; NaN below a third."""
    height, width = (n // BIN * BIN for n in plane.shape)
    part, clear = plane[:height, :width], ~avoid[:height, :width]
    good = clear & np.isfinite(part)
    total = cv2.resize(
        np.where(good, part, 0).astype(np.float32),
        (width // BIN, height // BIN),
        interpolation=cv2.INTER_AREA,
    )
    share = cv2.resize(
        good.astype(np.float32), (width // BIN, height // BIN), interpolation=cv2.INTER_AREA
    )
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(share > 1 / 3, np.asarray(total) / np.asarray(share), np.nan)


def flux_scale(
    plane: F32,
    one: KnownStars,
    reference: F32,
    two: KnownStars,
    saturation: tuple[float | None, float | None],
    name: str,
) -> FluxScale:
    """Flux of ``plane`` over ``reference``. Raises NotEnoughData when neither stars nor nebula
    tell.
    """
    stars = _by_stars(plane, one, reference, two, saturation)
    pixels = _by_pixels(one, two, stars[0] if stars else 1.0)
    if stars is None and pixels is None:
        raise NotEnoughData(
            f"The brightness of {name} cannot be compared with the others",
            why="too few stars in common and no nebula above the noise",
            do="Leave this stack out, or give one with more signal",
        )
    if stars is None:
        assert pixels is not None
        return FluxScale(pixels[0], pixels[1], "nebula")
    if pixels is not None:
        ratio = pixels[0] / stars[0]
        usable = 1 / _MOST_APART < ratio < _MOST_APART
        if (
            usable
            and abs(ratio - 1) > _APART
            and abs(pixels[0] - stars[0]) > 3 * float(np.hypot(pixels[1], stars[1]))
        ):
            return FluxScale(
                pixels[0],
                pixels[1],
                "nebula",
                f"{name}: stars say {stars[0]:.2f} and the nebula {pixels[0]:.2f} of the "
                "reference, as filters of different width do; the nebula is followed.",
            )
    return FluxScale(stars[0], stars[1], "stars")


def _by_stars(
    plane: F32,
    one: KnownStars,
    reference: F32,
    two: KnownStars,
    saturation: tuple[float | None, float | None],
) -> tuple[float, float] | None:
    """Huber mean of log flux ratios of isolated stars in apertures of 1.6 times the wider FWHM."""
    stars = two.stars
    if stars.fwhm_px is None or not stars.x:
        return None
    wide = max(stars.fwhm_px, one.stars.fwhm_px or 0.0)
    x, y = np.array(stars.x), np.array(stars.y)
    x, y = x[:_MOST_STARS], y[:_MOST_STARS]
    apart = np.hypot(x[:, None] - x, y[:, None] - y) + 1e9 * np.eye(len(x))
    alone = apart.min(1) > _ALONE * wide
    radius = _APERTURE * wide
    both = [
        _apertures(plane, x[alone], y[alone], radius, one.noise.best, saturation[0]),
        _apertures(reference, x[alone], y[alone], radius, two.noise.best, saturation[1]),
    ]
    told = np.isfinite(both[0]) & np.isfinite(both[1])
    ratios = np.log(both[0][told] / both[1][told])
    if len(ratios) < _ENOUGH_STARS:
        return None
    values = ratios
    centre = float(np.median(values))
    sigma = max(MAD_TO_SIGMA * float(np.median(np.abs(values - centre))), 1e-4)
    for _ in range(10):
        weight = 1 / np.maximum(np.abs(values - centre) / (_HUBER * sigma), 1)
        centre = float((weight * values).sum() / weight.sum())
    return float(np.exp(centre)), float(np.exp(centre) * sigma * 1.1 / np.sqrt(len(values)))


def _apertures(
    plane: F32, x: F64, y: F64, radius: float, noise: float, saturation: float | None
) -> F64:
    """Fluxes (N,) above the rings around places; NaN for one that is under 15 sigma, saturated, at
    the edge or partly unseen.
    """
    reach = int(np.ceil(radius * _RING[1])) + 1
    xi, yi = np.rint(x).astype(int), np.rint(y).astype(int)
    inside = (xi >= reach) & (xi < plane.shape[1] - reach)
    inside &= (yi >= reach) & (yi < plane.shape[0] - reach)
    out = np.full(len(x), np.nan)
    step = np.arange(-reach, reach + 1)
    some = max(1, _AT_ONCE // len(step) ** 2)
    for which in np.array_split(np.flatnonzero(inside), max(1, int(inside.sum()) // some)):
        if not which.size:
            continue
        rows, columns = yi[which, None, None] + step[:, None], xi[which, None, None] + step
        part = plane[rows, columns].astype(np.float64)
        away = np.hypot(columns - x[which, None, None], rows - y[which, None, None])
        ring = (away > _RING[0] * radius) & (away < _RING[1] * radius)
        seen = np.isfinite(part)
        ground = np.nanmedian(np.where(ring & seen, part, np.where(ring, 0.0, np.nan)), axis=(1, 2))
        light = (part - ground[:, None, None]) * np.clip(radius + 0.5 - away, 0, 1)
        flux = light.sum((1, 2))  # NaN where anything is unseen
        good = seen.all((1, 2)) & (flux > _BRIGHT * noise * np.sqrt(np.pi) * radius)
        if saturation is not None:
            top = np.where(away < radius, part, -np.inf).max((1, 2))
            good &= top <= _UNCLIPPED * saturation
        out[which] = np.where(good, flux, np.nan)
    return out


def _tukey(off: np.ndarray, one: float, two: float) -> np.ndarray:
    off = off - np.median(off)
    sigma = max(MAD_TO_SIGMA * float(np.median(np.abs(off))), float(np.hypot(one, two)))
    return np.asarray(np.maximum(1 - (off / (_TUKEY * sigma)) ** 2, 0) ** 2)


def _by_pixels(one: KnownStars, two: KnownStars, start: float) -> tuple[float, float] | None:
    """Errors-in-variables slope of star-free bins, with a surface of degree 2 between them (Deming
    1943), from a first value on; what lies apart counts less, and then not at all (Tukey's
    biweight).
    """
    good = np.isfinite(one.bins) & np.isfinite(two.bins)
    if good.sum() < _ENOUGH_BINS:
        return None
    y, x = np.nonzero(good)
    a, b = two.bins[good].astype(float), one.bins[good].astype(float)
    lam = (one.bin_noise / max(two.bin_noise, 1e-30)) ** 2
    shape = one.bins.shape
    scale, weight = start, np.ones(len(a))
    for turn in range(25):
        # the surface takes up gradients; what is left of both is the nebula
        surface = fit_poly(x.astype(float), y.astype(float), b - scale * a, shape, 2, 4, weight)
        rest = b - surface.at(x.astype(float), y.astype(float))
        if turn == 0:  # a trail, which only one of them has, must not begin it
            weight = _tukey(rest - scale * a, one.bin_noise, scale * two.bin_noise)
        ma, mb = np.average(a, weights=weight), np.average(rest, weights=weight)
        sxx = float(np.average((a - ma) ** 2, weights=weight))
        syy = float(np.average((rest - mb) ** 2, weights=weight))
        sxy = float(np.average((a - ma) * (rest - mb), weights=weight))
        if sxy <= 0 or sxx < _NEBULA * two.bin_noise**2:
            return None  # no nebula above the noise of the bins
        new = (syy - lam * sxx + np.sqrt((syy - lam * sxx) ** 2 + 4 * lam * sxy**2)) / (2 * sxy)
        off = (rest - mb - new * (a - ma)) / np.sqrt(one.bin_noise**2 + new**2 * two.bin_noise**2)
        sigma = max(MAD_TO_SIGMA * float(np.median(np.abs(off))), 1.0)
        weight = np.maximum(1 - (off / (_TUKEY * sigma)) ** 2, 0) ** 2
        done = abs(new / scale - 1) < _SETTLED
        scale = new
        if done:
            break
    error = (
        float(np.sqrt((one.bin_noise**2 + scale**2 * two.bin_noise**2) / (sxx * len(a)))) * sigma
    )
    return (float(scale), error) if scale > 4 * error else None


def difference_surface(one: KnownStars, two: KnownStars, scale: float) -> Poly:
    """A surface of degree 2 through one stack at the reference's scale less the reference, in full
    pixels: the nebula cancels, the gradients stay.
    """
    good = np.isfinite(one.bins) & np.isfinite(two.bins)
    y, x = np.nonzero(good)
    shape = one.bins.shape[0] * BIN, one.bins.shape[1] * BIN
    degree = 2 if good.sum() >= 24 else 1 if good.sum() >= 8 else 0
    px, py = (np.asarray(v * BIN + (BIN - 1) / 2, np.float64) for v in (x, y))
    return fit_poly(px, py, one.bins[good] / scale - two.bins[good], shape, degree)

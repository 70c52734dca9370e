"""What a blend needs to know of its channels beside their own figures, measured on their pixels."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import numpy as np

from ..measure.white import StarPlane, star_white
from ..model.channel import COLOURS
from ..model.measures import Stars
from ..model.planes import F32
from ..model.recipe import ChannelFigures, LiftFigures, StarFigures, WhiteFigures
from ..model.settings import Rectangle, White
from ..numerics.robust import MAD_TO_SIGMA
from .green import green_plane, middle_share
from .inputs import BROAD
from .lifts import measure_lift

_FIELD_STAR_K: Final = 5600.0
_DAYLIGHT_K: Final = 6504.0
"""A middling field star against the white of the screen (D65), both as black bodies."""
_BAND_NM: Final = (630.0, 530.0, 455.0)
_HALF: Final = 2.0
_BRIGHT_SHARE: Final = 0.9
"""Quantile of the stars' peaks that the level of a set stands for."""
_PEAK_SIGMA: Final = 8.0  # from which a peak in a star layer is a star


def white_figures(
    settings: White, planes: Mapping[str, StarPlane], stars: Stars | None
) -> WhiteFigures:
    """The white of R, G and B that a person asks for. ``planes`` are background-0 and hold their
    stars; a white that cannot be told leaves the channels as they are.
    """
    if settings.by == "typed":
        return WhiteFigures(gains=settings.gains)
    if not set(COLOURS) <= set(planes):
        return WhiteFigures()
    if settings.by == "region" and settings.region is not None:
        return region_white(settings.region, {n: planes[n].plane for n in COLOURS})
    found = star_white(planes, stars) if stars is not None else None
    if found is None:
        return WhiteFigures()
    gains = found.gains
    if settings.field_hue:
        hue = field_hue()
        gains = (gains[0] * hue[0], 1.0, gains[2] * hue[2])
    return WhiteFigures(gains=gains, stars=found.stars, error=round(found.error, 5))


def region_white(region: Rectangle, planes: Mapping[str, F32]) -> WhiteFigures:
    """Gains that make the mean of a region white; those of 1 where it holds no light."""
    x0, y0, x1, y1 = region
    means = [float(np.nanmean(planes[n][y0:y1, x0:x1])) for n in COLOURS]
    if not np.all(np.isfinite(means)) or min(means) <= 0:
        return WhiteFigures()
    return WhiteFigures(gains=(means[1] / means[0], 1.0, means[1] / means[2]))


def field_hue() -> tuple[float, float, float]:
    """How a middling field star differs from white, by its photons in R, G and B; green 1."""
    star, day = (_photons(t) for t in (_FIELD_STAR_K, _DAYLIGHT_K))
    ratio = star / day
    red, green, blue = (float(r) for r in ratio / ratio[1])
    return red, green, blue


def _photons(kelvin: float) -> np.ndarray:
    nm = np.array(_BAND_NM)
    return np.asarray(nm**-4 / np.expm1(1.4388e7 / (nm * kelvin)))  # Planck, per photon


def green_share(o3: F32, ha: F32, figures: tuple[ChannelFigures, ChannelFigures]) -> float:
    """The middle share of O3 in green, from background-0 planes at half size."""
    share = green_plane(o3, ha, figures, _HALF)
    return middle_share(share, o3, ha, (figures[0].signal, figures[1].signal))


def broad_of(line: str, channels: Mapping[str, ChannelFigures]) -> str | None:
    """The broadband channel that a line lies on; None where there is none with any light."""
    return next((n for n in BROAD.get(line, ()) if n in channels and channels[n].signal > 0), None)


def lift_figures(
    halves: Mapping[str, F32],
    channels: Mapping[str, ChannelFigures],
    continua: Mapping[str, tuple[float, int]],
) -> dict[str, LiftFigures]:
    """Every line that can lie on a broadband channel, from background-0 planes at half size.
    ``continua`` holds k, and the stars that told it, where it is known; 0 of the continuum is taken
    off elsewhere.
    """
    made = {}
    for line in BROAD:
        broad = broad_of(line, channels)
        if line not in halves or broad is None or broad not in halves:
            continue
        share, told_by = continua.get(line, (0.0, 0))
        told = LiftFigures(broad=broad, k=share, stars=told_by)
        both = (channels[line], channels[broad])
        made[line] = measure_lift(halves[line], halves[broad], told, both)
    return made


def star_figures(
    source: str, planes: Sequence[F32], stars: Stars, made_of: tuple[str, ...]
) -> StarFigures | None:
    """The level of a set of balanced star planes; None where no star stands out."""
    x = np.rint(np.array(stars.x)).astype(int)
    y = np.rint(np.array(stars.y)).astype(int)
    height, width = planes[0].shape
    inside = (x >= 1) & (y >= 1) & (x < width - 1) & (y < height - 1)
    x, y = x[inside], y[inside]
    brightest = np.max([np.asarray(p[y, x]) for p in planes], 0) if x.size else np.zeros(0)
    sigma = layer_noise(planes)
    peaks = brightest[brightest > _PEAK_SIGMA * sigma]
    if not peaks.size:
        return None
    level = float(np.quantile(peaks, _BRIGHT_SHARE))
    return StarFigures.model_validate(
        {
            "source": source,
            "level": level,
            "top": max(float(peaks.max()), level),
            "sigma": sigma,
            "made_of": made_of,
        }
    )


def layer_noise(planes: Sequence[F32]) -> float:
    """Noise of star planes (R, G, B, or one) where they hold anything but no star: of the fainter
    half.
    """
    thin = np.asarray(planes[len(planes) // 2][::3, ::3])
    held = np.abs(thin[thin != 0])
    return float(MAD_TO_SIGMA * np.median(held)) if held.size else 0.0

"""Colour steps in Oklab, per pixel: limits, saturation, calm star colour, gamut."""

from __future__ import annotations

import numpy as np

from ..model.planes import F32
from ..model.recipe import Colour
from ..numerics.oklab import decode, encode, from_oklab, to_oklab

_GREEN = (142.5, 35.0)
_MAGENTA = (328.4, 25.0)


def needed(settings: Colour) -> bool:
    """False when no colour step would change anything."""
    return bool(settings.limit_green or settings.limit_magenta or settings.saturation != 1.0
                or settings.star_colour != 1.0)


def apply_colour(code: F32, settings: Colour, glow: F32 | None, stars: F32 | None) -> F32:
    """Colour steps on sRGB code (3, N). ``glow`` is the SNR of the smoothed light, ``stars`` 0 to 1; both (N,).

    Lightness stays; what leaves the gamut goes toward the grey of its lightness.
    """
    lab = to_oklab(decode(code))
    if settings.limit_green:
        limit_hue(lab, _GREEN, settings.limit_green)
    if settings.limit_magenta:
        limit_hue(lab, _MAGENTA, settings.limit_magenta)
    factor: F32 | np.float32 = np.float32(settings.saturation)
    if settings.saturation != 1.0 and glow is not None:
        square = glow * glow
        trust = np.float32(0.25) + np.float32(0.75) * square / (square + np.float32(16))
        factor = (1 + np.float32(settings.saturation - 1) * trust).astype(np.float32)
    if stars is not None and settings.star_colour != 1.0:
        factor = factor * (1 - stars * np.float32(1 - settings.star_colour))
    if isinstance(factor, np.ndarray) or factor != 1:
        lab[1:] *= factor
    return encode(into_gamut(from_oklab(lab), lab[0]))


def limit_hue(lab: F32, around: tuple[float, float], amount: float) -> None:
    """Take ``amount`` of the excess toward one hue (degrees, half angle) off, in place; lightness exact."""
    hue, half = np.deg2rad(around[0]), np.deg2rad(around[1])
    cos, sin = np.float32(np.cos(hue)), np.float32(np.sin(hue))
    across = lab[2] * cos - lab[1] * sin
    excess = lab[1] * cos + lab[2] * sin
    excess -= np.abs(across) * np.float32(1 / np.tan(half))
    np.maximum(excess, 0, out=excess)
    excess *= excess / (excess + np.float32(0.01))
    excess *= np.float32(amount)
    lab[1] -= excess * cos
    lab[2] -= excess * sin


def into_gamut(light: F32, lightness: F32) -> F32:
    """Linear light (3, N) drawn toward the grey of equal lightness until it fits 0..1."""
    high, low = light.max(0), light.min(0)
    outside = (high > 1) | (low < 0)
    if not outside.any():
        return light
    index = np.flatnonzero(outside)
    part = light[:, index]
    grey = np.clip(lightness[index], 0, 1) ** 3
    top = (1 - grey) / np.maximum(high[index] - grey, 1e-9)
    bottom = grey / np.maximum(grey - low[index], 1e-9)
    share = np.clip(np.minimum(np.where(high[index] > 1, top, 1), np.where(low[index] < 0, bottom, 1)), 0, 1)
    light[:, index] = grey + (part - grey) * share
    return light

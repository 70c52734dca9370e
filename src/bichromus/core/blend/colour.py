"""Colour steps in Oklab, per pixel: limits, saturation, calm star colour, gamut."""

from __future__ import annotations

import numpy as np

from ..model.planes import F32
from ..model.settings import Colour
from ..numerics.pixel_loops import LIMIT, is_row

_GREEN = (142.5, 35.0)
_MAGENTA = (328.4, 25.0)
_FAINT = 0.25  # of the saturation that counts where there is no light: noise is not coloured
_TRUSTED = 16.0  # SNR squared of the light at which it counts half


def needed(settings: Colour) -> bool:
    """False when no colour step would change anything."""
    return bool(
        settings.limit_green
        or settings.limit_magenta
        or settings.saturation != 1.0
        or settings.star_colour != 1.0
    )


def apply_colour(
    lab: F32, settings: Colour, glow: F32 | None, stars: F32 | None, work: F32 | None = None
) -> None:
    """Colour steps on Oklab (3, N), in place. ``glow`` is the SNR of the smoothed light, ``stars``
    0 to 1 over stars; both (N,). Lightness stays.
    """
    if settings.limit_green:
        limit_hue(lab, _GREEN, settings.limit_green, work)
    if settings.limit_magenta:
        limit_hue(lab, _MAGENTA, settings.limit_magenta, work)
    _scale_colour(lab, settings, glow, stars)


def _scale_colour(lab: F32, settings: Colour, glow: F32 | None, stars: F32 | None) -> None:
    factor: F32 | np.float32 = np.float32(settings.saturation)
    if settings.saturation != 1.0 and glow is not None:
        square = glow * glow
        trust = square / (square + np.float32(_TRUSTED))
        trust = np.float32(_FAINT) + np.float32(1 - _FAINT) * trust
        factor = (1 + np.float32(settings.saturation - 1) * trust).astype(np.float32)
    if stars is not None and settings.star_colour != 1.0:
        factor = factor * (np.float32(1) - stars * np.float32(1 - settings.star_colour))
    if isinstance(factor, np.ndarray) or factor != 1:
        lab[1:] *= factor


def limit_hue(
    lab: F32, around: tuple[float, float], amount: float, work: F32 | None = None
) -> None:
    """Take ``amount`` of the excess toward one hue (degrees, half angle) off, in place; lightness
    exact.
    """
    hue, half = np.deg2rad(around[0]), np.deg2rad(around[1])
    cos, sin = np.float32(np.cos(hue)), np.float32(np.sin(hue))
    loop = LIMIT.get()
    if loop is not None and is_row(lab):
        loop(lab[1], lab[2], cos, sin, np.float32(1 / np.tan(half)), np.float32(amount))
        return
    across, excess, part = work if work is not None else np.empty_like(lab)
    np.multiply(lab[2], cos, out=across)
    across -= np.multiply(lab[1], sin, out=part)
    np.abs(across, out=across)
    across *= np.float32(1 / np.tan(half))
    np.multiply(lab[1], cos, out=excess)
    excess += np.multiply(lab[2], sin, out=part)
    excess -= across
    np.maximum(excess, np.float32(0), out=excess)
    # e^2 / (e + 0.01): soft at its beginning
    np.add(excess, np.float32(0.01), out=part)
    excess *= excess
    excess /= part
    excess *= np.float32(amount)
    lab[1] -= np.multiply(excess, cos, out=part)
    lab[2] -= np.multiply(excess, sin, out=part)

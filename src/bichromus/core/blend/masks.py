"""Masks: how much of each pixel they take, and what they do to it in Oklab."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final

import cv2
import numpy as np

from ..model.mask import Mask, Range, Stroke
from ..model.planes import F32
from ..numerics.smoothing import gaussian

SMOOTH_PX: Final = 2.0
"""Blur of what a mask is told by: per pixel it would speckle."""
_COLOURLESS: Final = 0.012  # chroma (Oklab) under which a pixel has no hue to speak of
_COLOURED: Final = 0.03
_EIGHTHS: Final = 3  # bits of a pixel's fraction in which discs are drawn
_LEAST_SOFT: Final = 1e-3


def smoothstep(x: F32, start: float, end: float) -> F32:
    """0 below ``start``, 1 above ``end``, smooth between."""
    t = x - np.float32(start)
    t *= np.float32(1 / max(end - start, _LEAST_SOFT))
    np.clip(t, np.float32(0), np.float32(1), out=t)
    bend = t * np.float32(-2)
    bend += np.float32(3)
    bend *= t
    bend *= t
    return np.asarray(bend, np.float32)


def within(x: F32, wanted: Range) -> F32:
    """How far a value lies in a range, 0 to 1; its edges are ``soft`` wide, half inside."""
    half = wanted.soft / 2
    out = smoothstep(x, wanted.low - half, wanted.low + half)
    if wanted.high is not None:
        out = out * (1 - smoothstep(x, wanted.high - half, wanted.high + half))
    return out


def mask_weight(
    mask: Mask, level: F32 | None, picture: F32 | None, area: F32 | None, size: int
) -> F32:
    """How much a mask takes of each pixel (N,), 0 to 1, from the smoothed level of its channel in
    sigma, the smoothed picture in Oklab (3, N), and the area drawn, where it asks for them;
    ``size`` is N.
    """
    weight: F32 | None = None
    parts: list[F32] = []
    if mask.level is not None and level is not None:
        parts.append(within(level, mask.level))
    if mask.light is not None and picture is not None:
        parts.append(within(picture[0], mask.light))
    if mask.hue is not None and picture is not None:
        parts.append(_hue_weight(mask.hue, picture))
    if area is not None:
        parts.append(area)
    for part in parts:
        weight = part if weight is None else weight * part
    if weight is None:  # nothing is asked: all of it
        weight = np.ones(size, np.float32)
    return 1 - weight if mask.invert else weight


def _hue_weight(hue: tuple[float, float, float], picture: F32) -> F32:
    middle, half, soft = hue
    # turned so that the middle lies at 180 degrees: the distance from it has no seam there
    at = np.deg2rad(180.0 - middle)
    c, s = np.float32(np.cos(at)), np.float32(np.sin(at))
    turned = (c * picture[1] - s * picture[2], s * picture[1] + c * picture[2])
    chroma, angle = cv2.cartToPolar(turned[0][None], turned[1][None], angleInDegrees=True)
    away = np.abs(np.subtract(angle[0], np.float32(180), out=angle[0]), out=angle[0])
    weight = smoothstep(chroma[0], _COLOURLESS, _COLOURED)
    weight *= np.float32(1) - smoothstep(away, half, half + max(soft, 1.0))
    return weight


def apply_mask(lab: F32, mask: Mask, weight: F32, sky: float, soft: F32 | None) -> None:
    """A mask's effects on Oklab (3, N), in place. ``sky`` is the background's lightness, ``soft``
    the picture's, blurred to the size of its contrast.
    """
    if mask.contrast and soft is not None:
        lab[0] += np.float32(mask.contrast) * weight * (lab[0] - soft)
    if mask.lightness:
        lab[0] += np.float32(mask.lightness) * weight * (lab[0] - np.float32(sky))
    if mask.contrast or mask.lightness:
        np.clip(lab[0], 0, 1, out=lab[0])
    if mask.turn:
        angle = np.deg2rad(np.float32(mask.turn)) * weight
        c, s = np.cos(angle), np.sin(angle)
        a, b = lab[1].copy(), lab[2].copy()
        lab[1], lab[2] = c * a - s * b, s * a + c * b
    if mask.chroma:
        lab[1:] *= np.maximum(1 + np.float32(mask.chroma) * weight, 0)


def area_plane(shape: tuple[int, int], strokes: Iterable[Stroke], feather: float) -> F32:
    """An area that was drawn, 0 to 1, at half size of ``shape``: discs put in and taken out in
    their order, then feathered.
    """
    height, width = (shape[0] + 1) // 2, (shape[1] + 1) // 2
    drawn = np.zeros((height, width), np.uint8)
    one = 1 << _EIGHTHS
    for stroke in strokes:
        centre = (round((stroke.x - 0.5) / 2 * one), round((stroke.y - 0.5) / 2 * one))
        radius = max(1, round(stroke.radius / 2 * one))
        cv2.circle(drawn, centre, radius, (255 if stroke.add else 0,), -1, cv2.LINE_AA, _EIGHTHS)
    plane = np.asarray(drawn / np.float32(255), np.float32)
    return gaussian(plane, feather / 4)


def level_plane(half: F32, sigma: float) -> F32:
    """The smoothed level of a channel in sigma above the sky, from its half-size plane."""
    return np.asarray(gaussian(half, SMOOTH_PX / 2) * np.float32(1 / max(sigma, 1e-30)), np.float32)

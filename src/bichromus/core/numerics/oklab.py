"""sRGB code, linear light and Oklab (Ottosson 2020), on planar float32 arrays (3, N)."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ..model.planes import F32
from .oklab_figures import FROM_LAB32, FROM_LMS32, TO_LAB32, TO_LMS32
from .pixel_loops import DECODE, ENCODE, LIGHTNESS, TO_LAB, TO_LIGHT, is_row


def decode_exact(code: np.ndarray) -> np.ndarray:
    """sRGB code 0..1 to linear light, in float64."""
    v = np.asarray(code, np.float64)
    return np.where(v <= 0.04045, v / 12.92, ((np.maximum(v, 0) + 0.055) / 1.055) ** 2.4)


def encode_exact(light: np.ndarray) -> np.ndarray:
    """Linear light 0..1 to sRGB code, in float64."""
    v = np.asarray(light, np.float64)
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * np.maximum(v, 1e-12) ** (1 / 2.4) - 0.055)


def _power(base: F32, exponent: float) -> F32:
    """base ** exponent for base > 0, in place: the vector log and exp are several times faster than
    a power.
    """
    cv2.log(base, base)
    base *= np.float32(exponent)
    cv2.exp(base, base)
    return base


def _straight(out: F32, source: F32, knee: float, factor: float) -> None:
    """Below the knee the code is a straight line. Few pixels are that dark: they are picked out one
    by one.
    """
    if float(source.min()) > knee:
        return
    for to, row in zip(out, source, strict=True):
        dark = np.flatnonzero(row <= np.float32(knee))
        to[dark] = row[dark] * np.float32(factor)


def decode(code: F32, out: F32 | None = None) -> F32:
    """sRGB code (any 2-D float32 array, 0 to 1) to linear light. Relative error below 1e-5."""
    light = _buffer_like(out, code)
    if _each_row(DECODE.get(), code, light):
        return light
    np.add(code, np.float32(0.055), out=light)
    light *= np.float32(1 / 1.055)
    np.maximum(light, np.float32(0.04), out=light)
    _power(light, 2.4)
    _straight(light, code, 0.04045, 1 / 12.92)
    return light


def lightness_of_grey(code: F32, out: F32 | None = None) -> F32:
    """Oklab lightness of greys of sRGB code (2-D float32, 0 to 1): the cube root of their light."""
    root = _buffer_like(out, code)
    if _each_row(LIGHTNESS.get(), code, root):
        return root
    np.add(code, np.float32(0.055), out=root)
    root *= np.float32(1 / 1.055)
    np.maximum(root, np.float32(0.04), out=root)
    _power(root, 2.4 / 3)
    for to, row in zip(root, code, strict=True):
        dark = np.flatnonzero(row <= np.float32(0.04045))
        to[dark] = np.cbrt(row[dark] * np.float32(1 / 12.92))
    return root


def encode(light: F32, out: F32 | None = None) -> F32:
    """Linear light (2-D float32) to sRGB code, clipped to 0..1. Error below 1e-6. ``light`` is
    used up.
    """
    code = _buffer_like(out, light)
    if _each_row(ENCODE.get(), light, code):
        return code
    np.clip(light, np.float32(0), np.float32(1), out=light)
    np.maximum(light, np.float32(1e-6), out=code)
    _power(code, 1 / 2.4)
    code *= np.float32(1.055)
    code -= np.float32(0.055)
    _straight(code, light, 0.0031308, 12.92)
    return code


def code_to_oklab(code: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """sRGB code (3, N), 0 to 1, to Oklab (3, N). ``out`` and ``work`` are buffers to use instead of
    new ones; ``code`` is used up.
    """
    loop, made = TO_LAB.get(), _buffer_like(out, code)
    if loop is not None and is_row(code) and is_row(made):
        loop(*code, *made)
        return made
    return to_oklab(decode(code, work), out, code)


def oklab_to_light(lab: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """Oklab (3, N) to linear light (3, N), drawn toward the grey of equal lightness until it fits
    0 to 1. The answer lies in one of the buffers.
    """
    loop, made = TO_LIGHT.get(), _buffer_like(out, lab)
    if loop is not None and is_row(lab) and is_row(made):
        loop(*lab, *made)
        return made
    return into_gamut(from_oklab(lab, out, work), lab[0])


def _buffer_like(out: F32 | None, like: F32) -> F32:
    return np.empty_like(like) if out is None else out


def _each_row(loop: Callable[[F32, F32], None] | None, source: F32, out: F32) -> bool:
    """Whether a loop over rows was there and did it."""
    if loop is None or not is_row(source) or not is_row(out):
        return False
    for row, to in zip(source, out, strict=True):
        loop(row, to)
    return True


def to_oklab(light: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """Linear light (3, N), at least 0, to Oklab (3, N). ``out`` and ``work`` are buffers to use
    instead of new ones.
    """
    lms = np.matmul(TO_LMS32, light, out=work)
    np.maximum(lms, np.float32(1e-12), out=lms)
    return np.asarray(np.matmul(TO_LAB32, _power(lms, 1 / 3), out=out), np.float32)


def from_oklab(lab: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """Oklab (3, N) to linear light (3, N); may leave 0..1 outside the gamut. The answer lies in
    ``work``.
    """
    root = np.matmul(FROM_LAB32, lab, out=work)
    cube = np.multiply(root, root, out=out)
    cube *= root
    return np.asarray(np.matmul(FROM_LMS32, cube, out=work), np.float32)


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
    share = np.clip(
        np.minimum(np.where(high[index] > 1, top, 1), np.where(low[index] < 0, bottom, 1)), 0, 1
    )
    light[:, index] = grey + (part - grey) * share
    return light

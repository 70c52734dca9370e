"""sRGB code, linear light and Oklab (Ottosson 2020), on planar float32 arrays (3, N)."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32

_TO_LMS: Final = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB: Final = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
_TO_LMS32: Final = _TO_LMS.astype(np.float32)
_TO_LAB32: Final = _TO_LAB.astype(np.float32)
_FROM_LMS32: Final = np.linalg.inv(_TO_LMS).astype(np.float32)
_FROM_LAB32: Final = np.linalg.inv(_TO_LAB).astype(np.float32)


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
    light = np.add(code, np.float32(0.055), out=out)
    light *= np.float32(1 / 1.055)
    np.maximum(light, np.float32(0.04), out=light)
    _power(light, 2.4)
    _straight(light, code, 0.04045, 1 / 12.92)
    return light


def lightness_of_grey(code: F32, out: F32 | None = None) -> F32:
    """Oklab lightness of greys of sRGB code (2-D float32, 0 to 1): the cube root of their light."""
    root = np.add(code, np.float32(0.055), out=out)
    root *= np.float32(1 / 1.055)
    np.maximum(root, np.float32(0.04), out=root)
    _power(root, 2.4 / 3)
    for to, row in zip(root, code, strict=True):
        dark = np.flatnonzero(row <= np.float32(0.04045))
        to[dark] = np.cbrt(row[dark] * np.float32(1 / 12.92))
    return root


def encode(light: F32, out: F32 | None = None) -> F32:
    """Linear light (2-D float32) to sRGB code, clipped to 0..1. Error below 1e-6. ``light`` is
    clipped in place.
    """
    np.clip(light, np.float32(0), np.float32(1), out=light)
    code = np.maximum(light, np.float32(1e-6), out=out)
    _power(code, 1 / 2.4)
    code *= np.float32(1.055)
    code -= np.float32(0.055)
    _straight(code, light, 0.0031308, 12.92)
    return code


def to_oklab(light: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """Linear light (3, N), at least 0, to Oklab (3, N). ``out`` and ``work`` are buffers to use
    instead of new ones.
    """
    lms = np.matmul(_TO_LMS32, light, out=work)
    np.maximum(lms, np.float32(1e-12), out=lms)
    return np.asarray(np.matmul(_TO_LAB32, _power(lms, 1 / 3), out=out), np.float32)


def from_oklab(lab: F32, out: F32 | None = None, work: F32 | None = None) -> F32:
    """Oklab (3, N) to linear light (3, N); may leave 0..1 outside the gamut. The answer lies in
    ``work``.
    """
    root = np.matmul(_FROM_LAB32, lab, out=work)
    cube = np.multiply(root, root, out=out)
    cube *= root
    return np.asarray(np.matmul(_FROM_LMS32, cube, out=work), np.float32)

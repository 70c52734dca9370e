"""sRGB code, linear light and Oklab (Ottosson 2020), on planar float32 arrays (3, N)."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32

_STEPS: Final = 65535
_TO_LMS: Final = np.array([[0.4122214708, 0.5363325363, 0.0514459929],
                           [0.2119034982, 0.6806995451, 0.1073969566],
                           [0.0883024619, 0.2817188376, 0.6299787005]])
_TO_LAB: Final = np.array([[0.2104542553, 0.7936177850, -0.0040720468],
                           [1.9779984951, -2.4285922050, 0.4505937099],
                           [0.0259040371, 0.7827717662, -0.8086757660]])
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


_DECODE: Final = decode_exact(np.arange(_STEPS + 1) / _STEPS).astype(np.float32)
_ENCODE: Final = encode_exact(np.arange(_STEPS + 1) / _STEPS).astype(np.float32)


def _look_up(table: F32, values: F32) -> F32:
    index = np.multiply(values, np.float32(_STEPS))
    index += np.float32(0.5)
    np.clip(index, 0, _STEPS, out=index)
    return np.take(table, index.astype(np.uint16))


def decode(code: F32) -> F32:
    """sRGB code to linear light by table; values are clipped to 0..1. Error below 2e-5."""
    return _look_up(_DECODE, code)


def encode(light: F32) -> F32:
    """Linear light to sRGB code by table; values are clipped to 0..1. Error below 1e-4."""
    return _look_up(_ENCODE, light)


def to_oklab(light: F32) -> F32:
    """Linear light (3, N), at least 0, to Oklab (3, N)."""
    lms = _TO_LMS32 @ light
    np.maximum(lms, 1e-12, out=lms)
    root = cv2.exp(cv2.log(lms) * np.float32(1 / 3))
    return _TO_LAB32 @ np.asarray(root, np.float32)


def from_oklab(lab: F32) -> F32:
    """Oklab (3, N) to linear light (3, N); may leave 0..1 outside the gamut."""
    root = _FROM_LAB32 @ lab
    return _FROM_LMS32 @ (root * root * root)

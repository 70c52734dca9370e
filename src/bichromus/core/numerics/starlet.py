"""The starlet transform: an isotropic undecimated wavelet (Starck & Murtagh 1994)."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from .bands import filtered

# standard deviation of each detail plane of white noise with sigma 1
WHITE: Final = (0.8908, 0.2007, 0.0855, 0.0412, 0.0204, 0.0102)
_KERNEL: Final = np.array([1, 4, 6, 4, 1], np.float32) / 16


def smooth(plane: F32, scale: int) -> F32:
    """One smoothing of the transform, with holes of 2**scale between the taps; mirror at
    the edge.
    """
    step = 2**scale
    taps = np.zeros(4 * step + 1, np.float32)
    taps[::step] = _KERNEL

    def smoothed(part: F32) -> F32:
        found = cv2.sepFilter2D(part, cv2.CV_32F, taps, taps, borderType=cv2.BORDER_REFLECT_101)
        return np.asarray(found, np.float32)

    return filtered(plane, smoothed, 2 * step)


def details(plane: F32, scales: int) -> list[F32]:
    """Detail planes W1 .. W_scales of ``plane`` (H, W), finite."""
    out: list[F32] = []
    current = np.ascontiguousarray(plane, np.float32)
    for scale in range(scales):
        lower = smooth(current, scale)
        out.append(current - lower)
        current = lower
    return out


def band(plane: F32, first: int, last: int) -> F32:
    """Sum of the detail planes ``first`` to ``last`` (1-based, both included): a band-pass."""
    current = np.ascontiguousarray(plane, np.float32)
    start = current
    for scale in range(last):
        if scale == first - 1:
            start = current
        current = smooth(current, scale)
    return start - current

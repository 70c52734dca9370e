"""The starlet transform: an isotropic undecimated wavelet (Starck & Murtagh 1994)."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from .bands import filtered, in_parallel, row_bands
from .compiled import Compiled

# standard deviation of each detail plane of white noise with sigma 1
WHITE: Final = (0.8908, 0.2007, 0.0855, 0.0412, 0.0204, 0.0102)
_HOLED: Final = 2  # step between taps from which a kernel has holes
_ROWS: Final = 256
_KERNEL: Final = np.array([1, 4, 6, 4, 1], np.float32) / 16


def smooth(plane: F32, scale: int) -> F32:
    """One smoothing of the transform, with holes of 2**scale between the taps; mirror at
    the edge.
    """
    step = 2**scale
    loop = _LOOP.get() if step >= _HOLED else None
    if loop is not None and min(plane.shape) > 2 * step:
        out = np.empty(plane.shape, np.float32)
        whole, taps_of = np.ascontiguousarray(plane), _KERNEL[2:].astype(np.float32)

        def one(band: tuple[int, int]) -> None:
            loop(whole, step, taps_of, *band, out)

        in_parallel(one, row_bands(plane.shape[0], _ROWS))
        return out
    taps = np.zeros(4 * step + 1, np.float32)
    taps[::step] = _KERNEL

    def smoothed(part: F32) -> F32:
        found = cv2.sepFilter2D(part, cv2.CV_32F, taps, taps, borderType=cv2.BORDER_REFLECT_101)
        return np.asarray(found, np.float32)

    return filtered(plane, smoothed, 2 * step)


def _smooth_loop(plane: F32, step: int, taps: F32, first: int, last: int, out: F32) -> None:
    """Rows ``first`` to ``last`` of a plane smoothed, only the taps that are none of the holes."""
    height, width = plane.shape
    row, two = np.empty(width, np.float32), 2 * step
    a, b, c = taps[0], taps[1], taps[2]
    for y in range(first, last):
        up, down = abs(y - step), height - 1 - abs(height - 1 - y - step)
        above, below = abs(y - two), height - 1 - abs(height - 1 - y - two)
        middle, near_1, near_2 = plane[y], plane[up], plane[down]
        far_1, far_2, into = plane[above], plane[below], out[y]
        for x in range(width):
            near, far = near_1[x] + near_2[x], far_1[x] + far_2[x]
            row[x] = a * middle[x] + b * near + c * far
        # views from nought on: what might count from the end would be looked at one by one
        inner, left, right = into[two:], row[two - step :], row[two + step :]
        mid, further = row[two:], row[2 * two :]
        for x in range(width - 2 * two):
            near, far = left[x] + right[x], row[x] + further[x]
            inner[x] = a * mid[x] + b * near + c * far
        for edge in range(2 * two):
            x = edge if edge < two else width - 1 - (edge - two)
            near = row[abs(x - step)] + row[width - 1 - abs(width - 1 - x - step)]
            far = row[abs(x - two)] + row[width - 1 - abs(width - 1 - x - two)]
            into[x] = a * row[x] + b * near + c * far


_LOOP: Final = Compiled(_smooth_loop)


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

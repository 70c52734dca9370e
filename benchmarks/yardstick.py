"""What figures are compared with: a plain way to do as much.

Targets over the blur are the seconds wanted on two cores over the 0.048 s that it took where they
were set.
"""

from __future__ import annotations

from functools import cache

import cv2
import numpy as np

from .common import best

TAPS = np.array([1, 4, 6, 4, 1], np.float32) / np.float32(16)
SHAPE = (4176, 6248)
"""26 megapixels."""


@cache
def blur_s() -> float:
    """Seconds for one five-tap blur of 26 megapixels."""
    plane = np.random.default_rng(1).standard_normal(SHAPE, dtype=np.float32)
    return best(lambda: cv2.sepFilter2D(plane, cv2.CV_32F, TAPS, TAPS), 5)

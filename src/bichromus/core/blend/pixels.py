"""Code as it is written: counted where it is clipped, and turned into whole numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..numerics.pixel_loops import QUANTISE

_TOP: Final = {"uint16": 65535.0, "uint8": 255.0}


@dataclass
class Clipped:
    """Share of output values at the very bottom and top, counted as bands pass."""

    low: float = 0.0
    high: float = 0.0
    _count: int = 0

    def add(self, code: F32) -> None:
        """Count a band of code (3, H, W)."""
        share = code.size / max(self._count + code.size, 1)
        self.low += (float(np.count_nonzero(code <= 0)) / code.size - self.low) * share
        self.high += (float(np.count_nonzero(code >= 1)) / code.size - self.high) * share
        self._count += code.size


def quantise(code: F32, dtype: str) -> np.ndarray:
    """(3, H, W) code 0..1 to (H, W, 3) of uint16, uint8 or float32."""
    planes = list(code)
    loop = QUANTISE.get() if dtype != "float32" else None
    if loop is not None and code.flags.c_contiguous and code.dtype == np.float32:
        out = np.empty((*code.shape[1:], 3), dtype)
        red, green, blue = code.reshape(3, -1)
        loop(red, green, blue, np.float32(_TOP[dtype]), out.reshape(-1))
        return out
    if dtype != "float32":
        scaled = code * np.float32(_TOP[dtype])
        scaled += np.float32(0.5)
        planes = list(scaled.astype(dtype))
    return np.asarray(cv2.merge(planes), dtype)

"""Smooth functions known at even steps: between them polynomials through the six nearest (Lagrange
1795).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]

_OFFSETS: Final = np.arange(-2, 4)
BEYOND: Final = 2
"""Steps that must be known before the first place that is asked for, and beyond the last one."""


@dataclass(frozen=True)
class EvenTable:
    """``values`` (N, ...) at ``start``, ``start + step`` and so on; N is six at least."""

    start: float
    step: float
    values: F64

    def __call__(self, places: F64) -> F64:
        """The function at places of any shape: their shape, then that of one value."""
        t = (np.asarray(places, np.float64) - self.start) / self.step
        first = np.clip(np.floor(t).astype(int), BEYOND, len(self.values) - BEYOND - 2)
        u = t - first
        out: F64 | float = 0.0
        for k in _OFFSETS:
            weight = np.ones_like(u)
            for other in _OFFSETS[k != _OFFSETS]:
                weight = weight * (u - other) / (k - other)
            shape = weight.shape + (1,) * (self.values.ndim - 1)
            out = out + weight.reshape(shape) * self.values[first + k]
        return np.asarray(out, np.float64)

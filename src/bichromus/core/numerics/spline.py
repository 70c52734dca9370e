"""Planes sampled between their pixels by cubic B-splines (Unser, Aldroubi & Eden 1993), mirrored at
their edges.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ..model.planes import F32

_EDGE: Final = 2  # pixels that a spline reaches beyond the last


@dataclass(frozen=True)
class Places:
    """Places between the pixels of a plane: the ``index`` in a padded plane of the pixel above and
    left, and how far they lie beyond it (``across``, ``down``, 0 to 1); any shape.
    """

    index: NDArray[np.intp]
    across: F32
    down: F32


class Padded:
    """A plane (H, W) with a mirrored edge, of which pixels are fetched by the places' index."""

    def __init__(self, plane: NDArray[np.float32]) -> None:
        sides = (_EDGE,) * 4
        padded = cv2.copyMakeBorder(plane, *sides, borderType=cv2.BORDER_REFLECT_101)
        self.shape = plane.shape
        self.stride = padded.shape[1]
        self._flat = np.asarray(padded, np.float32).reshape(-1)

    def places(self, u: NDArray[np.float64], v: NDArray[np.float64]) -> Places:
        """Columns ``u`` and rows ``v``, all of them on the plane."""
        left, top = np.floor(u), np.floor(v)
        index = top.astype(np.intp)
        index += _EDGE
        index *= self.stride
        index += left.astype(np.intp)
        index += _EDGE
        return Places(index, (u - left).astype(np.float32), (v - top).astype(np.float32))

    def take(self, places: Places, down: int = 0, across: int = 0, out: F32 | None = None) -> F32:
        """The pixels so many rows below and columns to the right."""
        # all indices are on the padded plane, so that nothing is ever clipped: it is only quicker
        start = down * self.stride + across
        return np.take(self._flat[start:], places.index, out=out, mode="clip")


class Spline(Padded):
    """The coefficients of a finite plane (H, W)."""

    def __init__(self, plane: F32) -> None:
        found = scipy.ndimage.spline_filter(plane, 3, output=np.float32, mode="mirror")
        super().__init__(np.asarray(found, np.float32))

    def at(self, places: Places) -> F32:
        """Values at places of any shape."""
        first = Places(places.index - (self.stride + 1), places.across, places.down)
        across, down = _weights(places.across), _weights(places.down)
        total, row, tap = (np.empty(places.across.shape, np.float32) for _ in range(3))
        for j in range(4):
            for i in range(4):
                into = tap if i else row
                self.take(first, j, i, into)
                into *= across[i]
                if i:
                    row += tap
            row *= down[j]
            if j:
                total += row
            else:
                total[...] = row
        return total


def _weights(f: F32) -> tuple[F32, F32, F32, F32]:
    """Of the four pixels about a place that lies ``f`` beyond the second."""
    third, g = np.float32(1 / 6), 1 - f
    first, last = g * g * g * third, f * f * f * third
    second = f * f * (f - 2) * np.float32(0.5) + np.float32(2 / 3)
    return first, second, 1 - first - second - last, last

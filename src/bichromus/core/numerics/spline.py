"""Planes sampled between their pixels by cubic B-splines (Unser, Aldroubi & Eden 1993), mirrored at
their edges.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .bands import filtered
from .compiled import Compiled

_EDGE: Final = 2  # pixels that a spline reaches beyond the last
_POLE: Final = np.sqrt(3) - 2
_TAPS: Final = 14  # pixels each way after which the pole's powers are less than single precision


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

    def __init__(self, shape: tuple[int, int], fill: Callable[[F32], object]) -> None:
        """``fill`` writes the plane into the array that it is given."""
        padded = np.empty([n + 2 * _EDGE for n in shape], np.float32)
        fill(padded[_EDGE:-_EDGE, _EDGE:-_EDGE])
        _mirror(padded)
        _mirror(padded.T)
        self.shape = shape
        self.stride = padded.shape[1]
        self.flat = padded.reshape(-1)

    @classmethod
    def of(cls, plane: F32) -> Padded:
        """A plane that is there already."""

        def copy(inside: F32) -> None:
            inside[...] = plane

        return Padded((plane.shape[0], plane.shape[1]), copy)

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
        return np.take(self.flat[start:], places.index, out=out, mode="clip")


class Spline(Padded):
    """The coefficients of a finite plane (H, W)."""

    def __init__(self, plane: F32) -> None:
        powers = np.array([_POLE ** abs(n) for n in range(-_TAPS, _TAPS + 1)])
        taps = (powers / powers.sum()).astype(np.float32)

        def coefficients(part: F32) -> F32:
            found = cv2.sepFilter2D(part, cv2.CV_32F, taps, taps, borderType=cv2.BORDER_REFLECT_101)
            return np.asarray(found, np.float32)

        shape = plane.shape[0], plane.shape[1]
        super().__init__(shape, lambda inside: filtered(plane, coefficients, _TAPS, inside))

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


def _mirror(padded: F32) -> None:
    """Fill the first and last rows of an array from those beyond them."""
    last = len(padded) - 1
    for n in range(_EDGE):
        beyond = min(2 * _EDGE - n, last - _EDGE)
        padded[n], padded[last - n] = padded[beyond], padded[last - beyond]


def _weights(f: F32) -> tuple[F32, F32, F32, F32]:
    """Of the four pixels about a place that lies ``f`` beyond the second."""
    third, g = np.float32(1 / 6), 1 - f
    first, last = g * g * g * third, f * f * f * third
    second = f * f * (f - 2) * np.float32(0.5) + np.float32(2 / 3)
    return first, second, 1 - first - second - last, last


def _guarded_loop(
    flat: F32,
    stride: int,
    u: NDArray[np.float64],
    v: NDArray[np.float64],
    right: int,
    bottom: int,
    least: F32,
    most: F32,
    missing: F32,
    out: F32,
) -> None:
    """What ``Guard.at`` tells of places (N,), in the order of its sums, so that no bit differs."""
    third, most_part, half = np.float32(1 / 6), np.float32(2 / 3), np.float32(0.5)
    one, two, nothing = np.float32(1), np.float32(2), np.float32(np.nan)
    capped, holed = most.size > 0, missing.size > 0
    for n in range(u.size):
        if not (0 <= u[n] <= right and 0 <= v[n] <= bottom):  # so that NaN is none either
            out[n] = nothing
            continue
        left, top = int(u[n]), int(v[n])
        f, g = np.float32(u[n] - left), np.float32(v[n] - top)
        h, k = one - f, one - g
        a0, a3 = h * h * h * third, f * f * f * third
        a1 = f * f * (f - two) * half + most_part
        a2 = one - a0 - a1 - a3
        b0, b3 = k * k * k * third, g * g * g * third
        b1 = g * g * (g - two) * half + most_part
        b2 = one - b0 - b1 - b3
        place = (top + _EDGE) * stride + left + _EDGE
        i = place - stride - 1
        value = (flat[i] * a0 + flat[i + 1] * a1 + flat[i + 2] * a2 + flat[i + 3] * a3) * b0
        i += stride
        value += (flat[i] * a0 + flat[i + 1] * a1 + flat[i + 2] * a2 + flat[i + 3] * a3) * b1
        i += stride
        value += (flat[i] * a0 + flat[i + 1] * a1 + flat[i + 2] * a2 + flat[i + 3] * a3) * b2
        i += stride
        value += (flat[i] * a0 + flat[i + 1] * a1 + flat[i + 2] * a2 + flat[i + 3] * a3) * b3
        if value < least[place]:
            value = least[place]
        if capped and value > most[place]:
            value = most[place]
        if holed and missing[place] > 0:
            value = nothing
        out[n] = value


_LOOP: Final = Compiled(_guarded_loop)
_NONE: Final = np.zeros(0, np.float32)


@dataclass(frozen=True)
class Guard:
    """A spline that is held at each place between the ``least`` and the ``most`` there, and is not
    read where ``missing`` is above nought; NaN there and beside the plane.
    """

    spline: Spline
    least: Padded
    most: Padded | None = None
    missing: Padded | None = None

    def at(self, u: NDArray[np.float64], v: NDArray[np.float64]) -> F32:
        """Values at columns ``u`` and rows ``v`` of any shape."""
        loop = _LOOP.get()
        if loop is None:
            return self._plainly(u, v)
        out = np.empty(u.shape, np.float32)
        most, missing = (_NONE if p is None else p.flat for p in (self.most, self.missing))
        right, bottom = self.spline.shape[1] - 1, self.spline.shape[0] - 1
        loop(
            self.spline.flat,
            self.spline.stride,
            np.ascontiguousarray(u).reshape(-1),
            np.ascontiguousarray(v).reshape(-1),
            right,
            bottom,
            self.least.flat,
            most,
            missing,
            out.reshape(-1),
        )
        return out

    def _plainly(self, u: NDArray[np.float64], v: NDArray[np.float64]) -> F32:
        right, bottom = self.spline.shape[1] - 1, self.spline.shape[0] - 1
        outside = None
        inside = (u >= 0) & (v >= 0) & (u <= right) & (v <= bottom)
        if not inside.all():
            outside = ~inside
            u, v = np.where(inside, u, 0.0), np.where(inside, v, 0.0)
        places = self.spline.places(u, v)
        value = self.spline.at(places)
        np.maximum(value, self.least.take(places), out=value)
        if self.most is not None:
            np.minimum(value, self.most.take(places), out=value)
        if outside is not None:
            value[outside] = np.nan
        if self.missing is not None:
            value[self.missing.take(places) > 0] = np.nan
        return value

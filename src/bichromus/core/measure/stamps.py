"""Stars of one shape drawn many at once: the light of one and its slopes by place, for places
within a pixel, are evaluated once and scaled.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from ..numerics.compiled import Compiled
from .drawing import add_box, draw_stars
from .profiles import AMPLITUDE, F64, Shape, X, Y, moffat_slopes

PHASES: Final = 4
"""Places within a pixel, each way, that have a stamp of their own: an eighth of a pixel away a
star's light is told by its slopes to half a percent of its peak.
"""
_SIZES: Final = (4, 6, 9, 13, 18, 25)
"""Reach of stamps in pixels: a star takes the next larger one; of larger ones there are few."""
_AT_ONCE: Final = 400_000  # pixels


def phase_of(p: F64) -> tuple[F64, NDArray[np.int64], F64]:
    """Middle pixels of stars (N, 7), the phases of their places, and how far these are off, each
    (N, 2).
    """
    place = p[:, X : Y + 1]
    middle = np.rint(place)
    half = PHASES // 2
    phase = np.clip(np.rint((place - middle) * PHASES), -half, half).astype(int)
    return middle, phase, place - middle - phase / PHASES


def phase_number(phase: NDArray[np.int64]) -> NDArray[np.int64]:
    """Phases (N, 2) as one number each, from 0."""
    half = PHASES // 2
    return np.asarray((phase[:, 0] + half) * (PHASES + 1) + phase[:, 1] + half, np.int64)


class Stamps:
    """Stamps of the middle star of a shape."""

    def __init__(self, shape: Shape) -> None:
        self._shape = shape
        middle = np.array([[shape.extent[1] / 2.0, shape.extent[0] / 2.0]])
        self._star = shape.stars(middle[:, 0], middle[:, 1], np.ones(1))
        self._made: dict[int, NDArray[np.float32]] = {}

    def draw(self, plane: F32, p: F64, least: float) -> None:
        """Add stars (N, 7) of this shape to a plane, in place, out to where they are as faint as
        ``least``.
        """
        reach = self._shape.reach(p, least)
        size = np.searchsorted(_SIZES, reach)
        far = size == len(_SIZES)
        if far.any():
            draw_stars(plane, self._shape, p[far], least)
        middle, phase, off = phase_of(p)
        number = phase_number(phase)
        corner = middle.astype(np.int64)
        light = p[:, AMPLITUDE]
        weight = np.stack([light, light * off[:, 0], light * off[:, 1]], 1).astype(np.float32)
        for index in np.unique(size[~far]):
            stamps = self._of(int(index))
            self._add(plane, stamps, np.flatnonzero(size == index), number, weight, corner)

    def _add(
        self,
        plane: F32,
        stamps: NDArray[np.float32],
        which: NDArray[np.int64],
        number: NDArray[np.int64],
        weight: NDArray[np.float32],
        corner: NDArray[np.int64],
    ) -> None:
        side = stamps.shape[2]
        loop = _LOOP.get()
        if loop is not None:
            loop(plane, stamps, number[which], weight[which], corner[which] - side // 2)
            return
        some = max(1, _AT_ONCE // side**2)
        for part in _by_phase(which, number, some):
            boxes = np.tensordot(weight[part], stamps[number[part[0]]], 1)
            for box, (x, y) in zip(boxes, corner[part] - side // 2, strict=True):
                add_box(plane, box, int(x), int(y))

    def _of(self, index: int) -> NDArray[np.float32]:
        """Light and slopes by x and y of a star of amplitude 1 at each phase: (25, 3, n, n)."""
        found = self._made.get(index)
        if found is None:
            found = self._made[index] = self._evaluated(_SIZES[index])
        return found

    def _evaluated(self, reach: int) -> NDArray[np.float32]:
        dy, dx = (v.ravel() for v in np.mgrid[-reach : reach + 1, -reach : reach + 1])
        half = PHASES // 2
        steps = np.array(
            [(i, j) for i in range(-half, half + 1) for j in range(-half, half + 1)], float
        )
        steps /= PHASES
        at = dx - steps[:, :1], dy - steps[:, 1:]
        stars = np.repeat(self._star, len(steps), 0)
        value, slopes = moffat_slopes(*at, stars, self._shape.second)
        value = value + self._shape.left_at(*at)
        side = 2 * reach + 1
        parts = np.stack([value, slopes[:, :, 0], slopes[:, :, 1]], 1)
        return np.ascontiguousarray(parts.reshape(len(steps), 3, side, side), np.float32)


def _by_phase(
    which: NDArray[np.int64], number: NDArray[np.int64], some: int
) -> list[NDArray[np.int64]]:
    """Stars of one phase, ``some`` at a time."""
    order = which[np.argsort(number[which], kind="stable")]
    cuts = np.flatnonzero(np.diff(number[order])) + 1
    return [part[i : i + some] for part in np.split(order, cuts) for i in range(0, len(part), some)]


def _add_loop(
    plane: F32,
    stamps: NDArray[np.float32],
    number: NDArray[np.int64],
    weight: NDArray[np.float32],
    corner: NDArray[np.int64],
) -> None:
    """Add the stamps of stars (N,) of one size, whose corners lie at pixels (N, 2)."""
    height, width = plane.shape
    side = stamps.shape[2]
    for n in range(len(number)):
        light, across, down = stamps[number[n]]
        a, b, c = weight[n]
        left, top = corner[n]
        x0, x1 = max(0, -left), min(side, width - left)
        for y in range(max(0, -top), min(side, height - top)):
            for x in range(x0, x1):
                plane[top + y, left + x] += a * light[y, x] + b * across[y, x] + c * down[y, x]


_LOOP: Final = Compiled(_add_loop)

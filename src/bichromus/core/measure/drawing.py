"""Stars drawn on a plane by their profiles, many of one reach at once."""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from ..numerics.bands import ordered_parallel
from ..numerics.compiled import Compiled
from .profiles import F64, Shape, X, Y

_THREADS: Final = 2
_AT_ONCE: Final = 60_000  # pixels evaluated at once: they stay in the cache


def draw_stars(plane: F32, shape: Shape, p: F64, least: float, sign: float = 1.0) -> None:
    """Add stars (N, 7), times ``sign``, to a plane, in place, out to where they are as faint as
    ``least``.
    """
    reach = shape.reach(p, least)
    if shape.draw(plane, p, reach, sign):
        return
    boxes = []
    for far in np.unique(reach):
        part, some = np.flatnonzero(reach == far), max(1, _AT_ONCE // (2 * far + 1) ** 2)
        boxes += [(part[i : i + some], int(far)) for i in range(0, len(part), some)]

    def evaluate(box: tuple[NDArray[np.int64], int]) -> F32:
        return _boxes(shape, p[box[0]], box[1])

    threads = _THREADS if len(boxes) > _THREADS else 1
    for (part, furthest), values in zip(
        boxes, ordered_parallel(evaluate, iter(boxes), threads), strict=True
    ):
        corner = np.rint(p[part, X : Y + 1]).astype(np.int64) - furthest
        _add_boxes(plane, np.float32(sign) * values, corner)


def _add_boxes(plane: F32, light: F32, corner: NDArray[np.int64]) -> None:
    loop = _ADD.get()
    if loop is not None:
        loop(plane, light, corner)
        return
    for box, (x, y) in zip(light, corner, strict=True):
        add_box(plane, box, int(x), int(y))


def _add_loop(plane: F32, light: F32, corner: NDArray[np.int64]) -> None:
    """Add boxes (N, n, n) whose corners (x, y) lie at pixels (N, 2)."""
    height, width = plane.shape
    side = light.shape[1]
    for n in range(len(light)):
        left, top = corner[n]
        first, last = max(0, -left), min(side, width - left)
        for y in range(max(0, -top), min(side, height - top)):
            for x in range(first, last):
                plane[top + y, left + x] += light[n, y, x]


_ADD: Final = Compiled(_add_loop)


def _boxes(shape: Shape, p: F64, reach: int) -> F32:
    """Light of stars (N, 7) in boxes (N, n, n) about them."""
    step = np.arange(-reach, reach + 1, dtype=float)
    side = len(step)
    columns = np.broadcast_to(step[None, :], (side, side)).ravel()[None] + np.rint(p[:, X, None])
    rows = np.broadcast_to(step[:, None], (side, side)).ravel()[None] + np.rint(p[:, Y, None])
    return shape.values(p, columns, rows).reshape(-1, side, side)


def add_box(plane: F32, light: F32, left: int, top: int) -> None:
    """Add a box of light whose corner lies at a pixel, where it is on the plane."""
    height, width = plane.shape
    x0, y0 = max(left, 0), max(top, 0)
    x1, y1 = min(left + light.shape[1], width), min(top + light.shape[0], height)
    if x0 < x1 and y0 < y1:
        plane[y0:y1, x0:x1] += light[y0 - top : y1 - top, x0 - left : x1 - left]

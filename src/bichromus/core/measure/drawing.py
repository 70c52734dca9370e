"""Stars drawn on a plane by their profiles, many of one reach at once."""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from ..numerics.bands import ordered_parallel
from .profiles import F64, Shape, X, Y

_THREADS: Final = 2
_AT_ONCE: Final = 60_000  # pixels evaluated at once: they stay in the cache


def draw_stars(plane: F32, shape: Shape, p: F64, least: float, sign: float = 1.0) -> None:
    """Add stars (N, 7), times ``sign``, to a plane, in place, out to where they are as faint as
    ``least``.
    """
    if not len(p):
        return
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
        corners = np.rint(p[part, X : Y + 1]).astype(np.int64) - furthest
        for box, (x, y) in zip(np.float32(sign) * values, corners, strict=True):
            add_box(plane, box, int(x), int(y))


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

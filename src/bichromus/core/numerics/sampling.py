"""Planes seen through a view, at the resolution of the screen or of the picture that is written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .placement import Placement

_ENLARGED: Final = 2
"""From so many screen pixels per picture pixel on, pixels are shown as squares: one judges them."""


@dataclass(frozen=True)
class View:
    """A region: picture coordinates of the first screen pixel's corner, picture pixels per screen
    pixel, and the region's size in screen pixels; ``placement`` says how the picture lies on the
    grid (None: as it is).
    """

    x0: float
    y0: float
    step: float
    width: int
    height: int
    placement: Placement | None = None


def whole_view(shape: tuple[int, int], longest: int) -> View:
    """The whole of a picture (H, W), its longer side ``longest`` screen pixels."""
    step = max(shape) / longest
    return View(0, 0, step, round(shape[1] / step), round(shape[0] / step))


def sample(
    levels: Sequence[NDArray[Any]],
    view: View,
    first_level: int = 0,
    beyond: int = cv2.BORDER_CONSTANT,
    squares: bool = True,
) -> F32:
    """A plane seen through ``view``: (height, width), from the level next finer than the screen.

    ``levels[k]`` is the plane averaged over 2^k x 2^k pixels; ``first_level`` is the level of
    ``levels[0]``: 1 for companions kept at half size. Outside is 0, or the edge where ``beyond``
    is BORDER_REPLICATE. Enlarged pixels are shown as ``squares``, or smoothly.
    """
    wanted = int(np.floor(np.log2(max(view.step, 1e-6)) + 1e-9))
    index = min(max(wanted - first_level, 0), len(levels) - 1)
    plane, factor = levels[index], 2.0 ** (index + first_level)
    if beyond == cv2.BORDER_REPLICATE and _doubles(view, factor, plane.shape):
        return _doubled(plane, view)
    move = move_of(view, factor)
    left, top, right, bottom = _covered(move, view)
    cut_l, cut_t = max(left, 0), max(top, 0)
    part = np.ascontiguousarray(plane[cut_t : max(bottom, 0), cut_l : max(right, 0)], np.float32)
    if part.size == 0:
        return np.zeros((view.height, view.width), np.float32)
    move[0, 2] -= cut_l
    move[1, 2] -= cut_t
    how = _interpolation(view, view.step / factor, squares and not first_level)
    return np.asarray(
        cv2.warpAffine(
            part,
            move,
            (view.width, view.height),
            flags=how | cv2.WARP_INVERSE_MAP,
            borderMode=beyond,
            borderValue=0,
        ),
        np.float32,
    )


def _doubles(view: View, factor: float, shape: tuple[int, ...]) -> bool:
    """Whether a view lies inside a half-size level and shows each of its pixels as two by two."""
    plain = view.placement is None and view.step == 1 and factor == _ENLARGED
    inside = min(view.x0, view.y0) >= 0 and (
        view.x0 + view.width <= 2 * shape[1] and view.y0 + view.height <= 2 * shape[0]
    )
    return plain and inside and view.x0 % 2 == 0 and view.y0 % 2 == 0


def _doubled(plane: NDArray[Any], view: View) -> F32:
    """A half-size plane at full size, linear between its pixels: what the general way gives, in a
    third of its time.
    """
    height, width = plane.shape
    rows, columns = (
        (int(at) // 2 - 1, -(-(int(at) + size) // 2) + 1)
        for at, size in ((view.y0, view.height), (view.x0, view.width))
    )
    cut_t, cut_b = (min(max(at, 0), height) for at in rows)
    cut_l, cut_r = (min(max(at, 0), width) for at in columns)
    part = np.asarray(plane[cut_t:cut_b, cut_l:cut_r], np.float32)
    big = cv2.resize(part, None, fx=2, fy=2, interpolation=cv2.INTER_LINEAR)
    top, left = int(view.y0) - 2 * cut_t, int(view.x0) - 2 * cut_l
    out = big[top : top + view.height, left : left + view.width]
    return np.ascontiguousarray(out)


def move_of(view: View, factor: float) -> NDArray[np.float64]:
    """The matrix (2, 3) from a view's screen pixels to those of a level whose pixels are ``factor``
    grid pixels wide, both by their middles.
    """
    x, y = view.x0 + 0.5 * view.step, view.y0 + 0.5 * view.step
    p = view.placement
    if p is None:
        rows = [[view.step, 0, x], [0, view.step, y]]
    else:
        at = p.to_grid(x, y)
        rows = [
            [p.a * view.step, p.b * view.step, at[0]],
            [p.d * view.step, p.e * view.step, at[1]],
        ]
    move = np.array(rows, np.float64) / factor
    move[:, 2] -= 0.5
    return move


def _covered(move: NDArray[np.float64], view: View) -> tuple[int, int, int, int]:
    """Bounds of what a view sees of a level, with the pixels beside it."""
    corners = np.array(
        [[0, view.width, 0, view.width], [0, 0, view.height, view.height], [1, 1, 1, 1]]
    )
    x, y = move @ corners
    left, top = int(np.floor(x.min())) - 2, int(np.floor(y.min())) - 2
    return left, top, int(np.ceil(x.max())) + 3, int(np.ceil(y.max())) + 3


def _interpolation(view: View, step: float, squares: bool) -> int:
    if view.placement is not None and not view.placement.square:
        return cv2.INTER_CUBIC  # a free turn of fine detail: straight lines would soften it
    return cv2.INTER_NEAREST if squares and step <= 1 / _ENLARGED else cv2.INTER_LINEAR

"""Planes seen through a view, at the resolution of the screen or of the picture that is written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32

_ENLARGED: Final = 2
"""From so many screen pixels per picture pixel on, pixels are shown as squares: one judges them."""


@dataclass(frozen=True)
class View:
    """A region: picture coordinates of the first screen pixel's corner, picture pixels per screen
    pixel, and the region's size in screen pixels.
    """

    x0: float
    y0: float
    step: float
    width: int
    height: int


def whole_view(shape: tuple[int, int], longest: int) -> View:
    """The whole of a picture (H, W), its longer side ``longest`` screen pixels."""
    step = max(shape) / longest
    return View(0, 0, step, round(shape[1] / step), round(shape[0] / step))


def sample(
    levels: Sequence[NDArray[Any]],
    view: View,
    first_level: int = 0,
    beyond: int = cv2.BORDER_CONSTANT,
) -> F32:
    """A plane seen through ``view``: (height, width), from the level next finer than the screen.

    ``levels[k]`` is the plane averaged over 2^k x 2^k pixels; ``first_level`` is the level of
    ``levels[0]``: 1 for companions kept at half size. Outside is 0, or the edge where ``beyond``
    is BORDER_REPLICATE.
    """
    wanted = int(np.floor(np.log2(max(view.step, 1e-6)) + 1e-9))
    index = min(max(wanted - first_level, 0), len(levels) - 1)
    plane, factor = levels[index], 2.0 ** (index + first_level)
    step = view.step / factor
    x0 = (view.x0 + 0.5 * view.step) / factor - 0.5
    y0 = (view.y0 + 0.5 * view.step) / factor - 0.5
    left, top = int(np.floor(x0)) - 1, int(np.floor(y0)) - 1
    right, bottom = (
        int(np.ceil(x0 + step * view.width)) + 2,
        int(np.ceil(y0 + step * view.height)) + 2,
    )
    cut_l, cut_t = max(left, 0), max(top, 0)
    part = np.ascontiguousarray(plane[cut_t : max(bottom, 0), cut_l : max(right, 0)], np.float32)
    if part.size == 0:
        return np.zeros((view.height, view.width), np.float32)
    nearest = step <= 1 / _ENLARGED and first_level == 0
    how = cv2.INTER_NEAREST if nearest else cv2.INTER_LINEAR
    move = np.array([[step, 0, x0 - cut_l], [0, step, y0 - cut_t]], np.float64)
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

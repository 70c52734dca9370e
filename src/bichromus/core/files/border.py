"""The border that registering leaves empty: most programs fill it with zeros."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask

_SOLID_PX: Final = 5
"""Side of a square that is empty throughout: black that was clipped has no such square."""
_RIM_PX: Final = (2, 4)
_INSIDE_PX: Final = (7, 10)
"""Rings of data about the empty part, told by their distance to it in pixels."""
_STEP: Final = 0.6
"""Share of the inner ring's values that the rim holds at a cut; where light fades out (a layer of
stars, a sky that was computed) it holds less than a third."""


def empty_border(planes: F32) -> Mask | None:
    """Where planes (n, H, W) are exactly zero from the edge of the frame inwards and cut off there;
    None where the data reach the edge or fade into black.
    """
    edge = (planes[:, 0], planes[:, -1], planes[:, :, 0], planes[:, :, -1])
    if not any((side == 0).all(axis=0).any() for side in edge):
        return None
    zero = (planes == 0).all(axis=0).astype(np.uint8)
    square = np.ones((_SOLID_PX, _SOLID_PX), np.uint8)
    # beyond the frame the border goes on: three pixels of it are enough
    solid = cv2.morphologyEx(zero, cv2.MORPH_OPEN, square, borderType=cv2.BORDER_REPLICATE)
    count, parts = cv2.connectedComponents(solid, connectivity=4)
    touching = np.zeros(count, np.bool_)
    for side in (parts[0], parts[-1], parts[:, 0], parts[:, -1]):
        touching[side] = True
    touching[0] = False
    found = touching[parts].astype(np.uint8)
    if not found.any() or not _is_cut(planes[0], found):
        return None
    # the ragged inner rim, which the squares did not reach
    return np.asarray((cv2.dilate(found, square) > 0) & (zero > 0), np.bool_)


def _is_cut(plane: F32, empty: np.ndarray) -> bool:
    """Whether the data end at the empty part at once, rather than fade into it."""
    far = cv2.distanceTransform(1 - empty, cv2.DIST_L1, 3)
    rim, inside = (
        np.abs(plane[(far >= low) & (far <= high)]) for low, high in (_RIM_PX, _INSIDE_PX)
    )
    if not rim.size or not inside.size:
        return False
    return bool(np.nanmedian(rim) > _STEP * np.nanmedian(inside) > 0)

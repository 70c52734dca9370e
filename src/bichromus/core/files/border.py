"""The border that registering leaves empty: most programs fill it with zeros."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask

_SOLID_PX: Final = 5
"""Side of a square that is empty throughout: black that was clipped has no such square."""


def empty_border(planes: F32) -> Mask | None:
    """Where planes (n, H, W) are exactly zero from the edge of the frame inwards; None where none
    of the edge is.
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
    if not found.any():
        return None
    # the ragged inner rim, which the squares did not reach
    return np.asarray((cv2.dilate(found, square) > 0) & (zero > 0), np.bool_)

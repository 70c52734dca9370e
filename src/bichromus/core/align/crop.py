"""The part that all pictures share."""

from __future__ import annotations

import cv2
import numpy as np

from ..model.planes import Mask
from ..numerics.placement import Box


def largest_box(seen: Mask, hole_px: int = 15) -> Box | None:
    """The largest upright rectangle that was seen whole; smaller holes than ``hole_px`` do not
    count; None: none.
    """
    if hole_px > 1:
        kernel = np.ones((hole_px, hole_px), np.uint8)
        padded = cv2.copyMakeBorder(
            seen.astype(np.uint8), hole_px, hole_px, hole_px, hole_px, cv2.BORDER_CONSTANT, value=0
        )
        closed = cv2.morphologyEx(padded, cv2.MORPH_CLOSE, kernel)[
            hole_px:-hole_px, hole_px:-hole_px
        ]
        seen = closed.astype(bool)
    height = np.zeros(seen.shape[1], int)
    best, found = 0, None
    # the largest ends where the row below is not seen as wide
    ends = np.append((seen[:-1] & ~seen[1:]).any(1), True) if len(seen) else np.zeros(0, bool)
    count = np.arange(seen.shape[1], 0, -1)
    for y, row in enumerate(seen):
        height = np.where(row, height + 1, 0)
        if not ends[y] or int((np.sort(height) * count).max()) <= best:
            continue  # of a skyline in order, which none beats
        area, box = _best_under(height, y)
        if area > best:
            best, found = area, box
    return found


def _best_under(heights: np.ndarray, y: int) -> tuple[int, Box]:
    """The largest rectangle under a skyline that stands on row ``y``."""
    stack: list[tuple[int, int]] = []
    best, box = 0, (0, 0, 0, 0)
    corners = np.flatnonzero(np.diff(heights, prepend=-1))
    steps = zip(corners.tolist(), heights[corners].tolist(), strict=True)
    for x, h in (*steps, (len(heights), 0)):
        start = x
        while stack and stack[-1][1] >= h:
            start, tall = stack.pop()
            area = tall * (x - start)
            if area > best:
                best, box = area, (start, y + 1 - tall, x, y + 1)
        stack.append((start, h))
    return best, box

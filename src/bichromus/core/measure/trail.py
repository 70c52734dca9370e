"""The trail of a satellite or an aircraft over a sub."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask
from ..numerics.robust import MAD_TO_SIGMA

_ABOVE: Final = (3.0, 1.5)  # of the frame's scatter, and of a pixel's noise: what is bright
_VOTES, _LENGTH, _GAP = 0.22, 0.40, 0.02  # of the shorter side, for the line transform
_ON, _OFF, _BESIDE_PX = 0.7, 0.35, 9  # share of the line that is bright, and of its neighbour
Line = tuple[float, float, float, float]


def trail_factor(shape: tuple[int, int]) -> int:
    """How many times smaller the whole frame is made to look for lines across it."""
    return max(1, round(max(shape) / 700))


def distance_from(x: np.ndarray, y: np.ndarray, line: Line) -> np.ndarray:
    """Distances of points from a line through two points."""
    x0, y0, x1, y1 = line
    along = np.hypot(x1 - x0, y1 - y0)
    return np.asarray(np.abs((x - x0) * (y1 - y0) - (y - y0) * (x1 - x0)) / max(along, 1e-9))


def find_trail(small: F32, sigma: float, factor: int = 1) -> Line | None:
    """Two points on a bright straight line across about half of a frame that was made ``factor``
    times smaller.

    ``sigma`` is the noise of a pixel before; the points are in pixels before.
    """
    flat = small - np.asarray(cv2.blur(small, (41, 41)), np.float32)
    spread = MAD_TO_SIGMA * float(np.median(np.abs(flat - np.median(flat))))
    soft = np.asarray(cv2.GaussianBlur(flat, (0, 0), 0.8), np.float32)
    bright: Mask = np.asarray(soft > max(_ABOVE[0] * spread, _ABOVE[1] * sigma / factor), np.bool_)
    shortest = min(bright.shape)
    lines = cv2.HoughLinesP(
        bright.astype(np.uint8) * 255,
        1,
        np.pi / 360,
        int(_VOTES * shortest),
        minLineLength=_LENGTH * shortest,
        maxLineGap=max(4, int(_GAP * shortest)),
    )
    for line in np.reshape(lines, (-1, 4))[:50] if lines is not None else ():
        if _solid(bright, *map(int, line)):
            x0, y0, x1, y1 = (float((v + 0.5) * factor) for v in line)
            return x0, y0, x1, y1
    return None


def _solid(bright: Mask, x0: int, y0: int, x1: int, y1: int) -> bool:
    """Whether most of a line is bright, and its neighbourhood is not."""
    count = max(abs(x1 - x0), abs(y1 - y0)) + 1
    x, y = np.linspace(x0, x1, count), np.linspace(y0, y1, count)
    across = np.array([-(y1 - y0), x1 - x0], float)
    across /= max(float(np.hypot(*across)), 1e-9)

    def share(step: float) -> float:
        px = np.clip(np.rint(x + step * across[0]), 0, bright.shape[1] - 1).astype(int)
        py = np.clip(np.rint(y + step * across[1]), 0, bright.shape[0] - 1).astype(int)
        return float(bright[py, px].mean())

    on = max(share(s) for s in (-1, 0, 1))
    return on > _ON and min(share(s) for s in (-_BESIDE_PX, _BESIDE_PX)) < _OFF

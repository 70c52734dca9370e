"""How a finished picture lies on the grid of its channels: cropped, mirrored, turned."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

Corner = tuple[float, float]
Box = tuple[int, int, int, int]
"""x0, y0, x1, y1 in pixels, half-open."""
_EXACT = 1e-9


@dataclass(frozen=True)
class Placement:
    """Grid pixels of a picture's pixels: (x, y) = (a X + b Y + c, d X + e Y + f), both counted from
    the corner of the first pixel; ``shape`` is the picture's height and width.
    """

    a: float
    b: float
    c: float
    d: float
    e: float
    f: float
    shape: tuple[int, int]

    @property
    def plain(self) -> bool:
        """Whether rows stay rows, in their order and place."""
        return (self.a, self.b, self.c, self.d, self.e, self.f) == (1, 0, 0, 0, 1, 0)

    @property
    def square(self) -> bool:
        """Whether pixels fall on pixels: no free turn."""
        return abs(self.a * self.b) < _EXACT

    def to_grid(self, x: float, y: float) -> Corner:
        """A place of the picture on the grid."""
        return self.a * x + self.b * y + self.c, self.d * x + self.e * y + self.f

    def from_grid(self, x: float, y: float) -> Corner:
        """A place of the grid in the picture."""
        u, v = x - self.c, y - self.f
        scale = self.a * self.e - self.b * self.d
        return (self.e * u - self.b * v) / scale, (self.a * v - self.d * u) / scale


def whole(shape: tuple[int, int]) -> Placement:
    """The grid as it is."""
    return Placement(1, 0, 0, 0, 1, 0, shape)


def placed(
    shape: tuple[int, int],
    crop: tuple[int, int, int, int] | None = None,
    flip: str = "",
    turn_deg: float = 0.0,
    trim: bool = False,
) -> Placement:
    """A grid of ``shape`` (H, W) cropped, then mirrored (``horizontal`` swaps left and right,
    ``vertical``, or ``both``), then turned clockwise about its middle. A free turn widens the
    picture to hold all, or with ``trim`` cuts it to what is covered.

    Raises ValueError for a crop that lies outside.
    """
    x0, y0, x1, y1 = cut(shape, crop)
    width, height = x1 - x0, y1 - y0
    angle = math.radians(turn_deg % 360)
    c, s = _neat(math.cos(angle)), _neat(math.sin(angle))
    wide = math.ceil(abs(width * c) + abs(height * s) - 1e-6)
    tall = math.ceil(abs(width * s) + abs(height * c) - 1e-6)
    if trim and c * s:
        wide, tall = _inside(width, height, abs(s), abs(c))
    # a clockwise turn of the picture is a counter-clockwise one of where its pixels come from
    a, b, d, e = c, s, -s, c
    across = -1 if flip in ("horizontal", "both") else 1
    down = -1 if flip in ("vertical", "both") else 1
    a, b, d, e = across * a, across * b, down * d, down * e
    middle = (x0 + width / 2, y0 + height / 2)
    return Placement(
        a,
        b,
        middle[0] - a * wide / 2 - b * tall / 2,
        d,
        e,
        middle[1] - d * wide / 2 - e * tall / 2,
        (tall, wide),
    )


def cut(
    shape: tuple[int, int], crop: tuple[int, int, int, int] | None
) -> tuple[int, int, int, int]:
    """A crop within a grid, half-open. Raises ValueError where nothing of it lies inside."""
    height, width = shape
    x0, y0, x1, y1 = crop or (0, 0, width, height)
    x0, y0, x1, y1 = max(x0, 0), max(y0, 0), min(x1, width), min(y1, height)
    if x1 <= x0 or y1 <= y0:
        raise ValueError("the crop lies outside the picture")
    return x0, y0, x1, y1


def _neat(value: float) -> float:
    """Quarter turns are exact."""
    return float(round(value)) if abs(value - round(value)) < _EXACT else value


def _inside(width: float, height: float, s: float, c: float) -> tuple[int, int]:
    """The largest upright rectangle within a turned one."""
    long, short = max(width, height), min(width, height)
    if short <= 2 * s * c * long or abs(s - c) < _EXACT:
        half = short / 2
        wide, tall = (half / s, half / c) if width >= height else (half / c, half / s)
    else:
        both = c * c - s * s
        wide, tall = (width * c - height * s) / both, (height * c - width * s) / both
    return max(int(wide), 1), max(int(tall), 1)


def north_up(matrix: np.ndarray) -> tuple[str, float]:
    """Flip and turn that bring north up and east to the left, from the matrix (2, 2) that takes
    pixels (right, down) to degrees east and north. Raises ValueError where it has no inverse.
    """
    if abs(float(np.linalg.det(matrix))) < 1e-20:
        raise ValueError("the matrix has no inverse")
    to_pixels = np.linalg.inv(matrix)
    east, north = to_pixels[:, 0], to_pixels[:, 1]
    # with east to the left of north, seen with rows downward, their cross product is positive
    mirrored = float(east[0] * north[1] - east[1] * north[0]) < 0
    flip = "horizontal" if mirrored else ""
    x = -north[0] if mirrored else north[0]
    turn = -math.degrees(math.atan2(x, -north[1]))
    return flip, round(turn % 360, 3) % 360

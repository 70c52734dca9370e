"""Where the stage looks: pure arithmetic of zoom and pan."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

MOST_ZOOM = 16.0


@dataclass(frozen=True)
class Camera:
    """Centre in picture pixels, and device pixels per picture pixel."""

    cx: float
    cy: float
    zoom: float

    def origin(self, width: int, height: int) -> tuple[float, float]:
        """Picture coordinates of the first screen pixel's corner, for a stage of that many device
        pixels.
        """
        return self.cx - width / 2 / self.zoom, self.cy - height / 2 / self.zoom

    def seen(
        self, shape: tuple[int, int], width: int, height: int
    ) -> tuple[int, int, int, int] | None:
        """The part of the stage that a picture (H, W) covers, in whole device pixels: left, top,
        right, bottom.
        """
        x0, y0 = self.origin(width, height)
        left, top = max(math.floor(-x0 * self.zoom), 0), max(math.floor(-y0 * self.zoom), 0)
        right = min(math.ceil((shape[1] - x0) * self.zoom), width)
        bottom = min(math.ceil((shape[0] - y0) * self.zoom), height)
        return (left, top, right, bottom) if right > left and bottom > top else None

    def to_picture(self, x: float, y: float, width: int, height: int) -> tuple[float, float]:
        """The place in the picture under a place of the screen."""
        x0, y0 = self.origin(width, height)
        return x0 + x / self.zoom, y0 + y / self.zoom

    def moved(self, dx: float, dy: float) -> Camera:
        """Dragged by device pixels."""
        return replace(self, cx=self.cx - dx / self.zoom, cy=self.cy - dy / self.zoom)

    def zoomed(
        self, factor: float, x: float, y: float, width: int, height: int, least: float
    ) -> Camera:
        """Zoomed so that what lies under (x, y) stays there."""
        px, py = self.to_picture(x, y, width, height)
        zoom = min(max(self.zoom * factor, least), MOST_ZOOM)
        return Camera(px - (x - width / 2) / zoom, py - (y - height / 2) / zoom, zoom)

    def held(self, shape: tuple[int, int]) -> Camera:
        """Kept so that the centre stays within a picture of ``shape`` (H, W)."""
        return replace(self, cx=min(max(self.cx, 0), shape[1]), cy=min(max(self.cy, 0), shape[0]))


def fitting(shape: tuple[int, int], width: int, height: int, margin: int = 0) -> Camera:
    """The whole picture (H, W) in a stage of width x height device pixels."""
    zoom = min((width - 2 * margin) / shape[1], (height - 2 * margin) / shape[0])
    return Camera(shape[1] / 2, shape[0] / 2, max(zoom, 1e-4))

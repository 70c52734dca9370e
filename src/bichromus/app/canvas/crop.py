"""A frame over the picture that can be moved and drawn larger or smaller: what a crop keeps."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from ..theme.look import LOOK, font

_GRAB_PX: Final = 12.0
_LEAST: Final = 16.0
"""Pixels of the picture that a crop keeps at least, each way."""


@dataclass(frozen=True)
class CropFrame:
    """A rectangle in pixels of the picture of ``shape`` (H, W); ``ratio`` is width over height
    where it is held (0: free).
    """

    shape: tuple[int, int]
    x0: float
    y0: float
    x1: float
    y1: float
    ratio: float = 0.0

    @property
    def rectangle(self) -> tuple[int, int, int, int]:
        """In whole pixels."""
        return round(self.x0), round(self.y0), round(self.x1), round(self.y1)

    def moved(self, dx: float, dy: float) -> CropFrame:
        """Moved, and held inside."""
        height, width = self.shape
        dx = min(max(dx, -self.x0), width - self.x1)
        dy = min(max(dy, -self.y0), height - self.y1)
        return replace(self, x0=self.x0 + dx, y0=self.y0 + dy, x1=self.x1 + dx, y1=self.y1 + dy)

    def dragged(self, grip: str, x: float, y: float) -> CropFrame:
        """With a side or a corner (of l, r, t, b) taken to a place."""
        height, width = self.shape
        x, y = min(max(x, 0.0), width), min(max(y, 0.0), height)
        new = self
        if "l" in grip:
            new = replace(new, x0=min(x, self.x1 - _LEAST))
        if "r" in grip:
            new = replace(new, x1=max(x, self.x0 + _LEAST))
        if "t" in grip:
            new = replace(new, y0=min(y, self.y1 - _LEAST))
        if "b" in grip:
            new = replace(new, y1=max(y, self.y0 + _LEAST))
        return new.held(grip) if self.ratio else new

    def held(self, grip: str = "rb") -> CropFrame:
        """With its ratio, the side opposite of the grip staying where it is."""
        if not self.ratio:
            return self
        height, width = self.shape
        wide, tall = self.x1 - self.x0, self.y1 - self.y0
        if grip in ("t", "b"):
            wide = tall * self.ratio
        else:
            tall = wide / self.ratio
        room_x = self.x1 if "l" in grip else width - self.x0
        room_y = self.y1 if "t" in grip else height - self.y0
        shrink = min(1.0, room_x / wide, room_y / tall)
        wide, tall = wide * shrink, tall * shrink
        x0 = self.x1 - wide if "l" in grip else self.x0
        y0 = self.y1 - tall if "t" in grip else self.y0
        return replace(self, x0=x0, y0=y0, x1=x0 + wide, y1=y0 + tall)

    def with_ratio(self, ratio: float) -> CropFrame:
        """With another ratio (0: free), about its middle, as large as it fits."""
        if not ratio:
            return replace(self, ratio=0.0)
        height, width = self.shape
        cx, cy = (self.x0 + self.x1) / 2, (self.y0 + self.y1) / 2
        area = (self.x1 - self.x0) * (self.y1 - self.y0)
        tall = min((area / ratio) ** 0.5, height, width / ratio)
        wide = tall * ratio
        x0 = min(max(cx - wide / 2, 0), width - wide)
        y0 = min(max(cy - tall / 2, 0), height - tall)
        return replace(self, x0=x0, y0=y0, x1=x0 + wide, y1=y0 + tall, ratio=ratio)

    def grip_at(self, x: float, y: float, zoom: float) -> str:
        """What a place of the picture would take hold of: a side, a corner, ``in``, or nothing."""
        near = _GRAB_PX / zoom
        inside_x = self.x0 - near <= x <= self.x1 + near
        inside_y = self.y0 - near <= y <= self.y1 + near
        if not (inside_x and inside_y):
            return ""
        grip = "l" if abs(x - self.x0) <= near else "r" if abs(x - self.x1) <= near else ""
        grip += "t" if abs(y - self.y0) <= near else "b" if abs(y - self.y1) <= near else ""
        return grip or "in"


def whole_frame(shape: tuple[int, int], crop: tuple[int, int, int, int] | None = None) -> CropFrame:
    """The frame of a crop; of the whole where there is none."""
    x0, y0, x1, y1 = crop or (0, 0, shape[1], shape[0])
    return CropFrame(shape, x0, y0, x1, y1)


def paint_crop(painter: QPainter, box: QRectF, whole: QRectF, words: str) -> None:
    """The frame over the picture: thirds inside, what is cut off darkened."""
    t = LOOK.theme
    shade = QColor(t.stage)
    shade.setAlpha(170)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(shade)
    for part in (
        QRectF(whole.left(), whole.top(), whole.width(), box.top() - whole.top()),
        QRectF(whole.left(), box.bottom(), whole.width(), whole.bottom() - box.bottom()),
        QRectF(whole.left(), box.top(), box.left() - whole.left(), box.height()),
        QRectF(box.right(), box.top(), whole.right() - box.right(), box.height()),
    ):
        painter.drawRect(part)
    light = QColor("#ffffff")
    light.setAlpha(90)
    painter.setPen(QPen(light, 1))
    for share in (1 / 3, 2 / 3):
        x, y = box.left() + share * box.width(), box.top() + share * box.height()
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
    light.setAlpha(230)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(light, 1.5))
    painter.drawRect(box)
    painter.setPen(QPen(light, 4))
    for x, dx in ((box.left(), 1), (box.right(), -1)):
        for y, dy in ((box.top(), 1), (box.bottom(), -1)):
            painter.drawLine(QPointF(x, y), QPointF(x + 14 * dx, y))
            painter.drawLine(QPointF(x, y), QPointF(x, y + 14 * dy))
    painter.setFont(font(9.5))
    painter.setPen(light)
    painter.drawText(box.adjusted(8, 6, -8, -6), Qt.AlignmentFlag.AlignLeft, words)

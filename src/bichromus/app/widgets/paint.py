"""Painting helpers shared by the hand-drawn controls."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QImage, QPainter, QPen

from ..theme.look import HATCHED, LOOK, THIN, tag_colour


def draw_tag(painter: QPainter, rect: QRectF, channel: str) -> None:
    """The upright bar of a channel: its colour, hatched for S2, thin for R, G and B."""
    first, mark, second = channel.partition("+")
    if mark:  # a dual band: its first line above, the other below
        half = rect.height() / 2
        draw_tag(painter, QRectF(rect.left(), rect.top(), rect.width(), half - 0.5), first)
        draw_tag(
            painter, QRectF(rect.left(), rect.top() + half + 0.5, rect.width(), half - 0.5), second
        )
        return
    colour = tag_colour(channel)
    box = QRectF(rect)
    if channel in THIN:
        box.setWidth(max(2.0, rect.width() / 2))
    painter.save()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour)
    painter.drawRoundedRect(box, 1.5, 1.5)
    if channel in HATCHED:
        painter.setClipRect(box)
        painter.setPen(QPen(QColor(LOOK.theme.panel), 1.6))
        y = box.top() - box.width()
        while y < box.bottom() + box.width():
            painter.drawLine(
                box.bottomLeft().x().__int__() - 1,
                int(y + box.width()),
                int(box.right()) + 1,
                int(y),
            )
            y += 5
    painter.restore()


def image_of(pixels: np.ndarray) -> QImage:
    """A QImage that owns its bytes, from (H, W, 3) uint8; red only where the theme asks for it."""
    if LOOK.theme.red_only:
        weights = np.array([54, 183, 19], np.uint16)
        grey = ((pixels * weights).sum(2) >> 8).astype(np.uint8)
        shown = np.zeros_like(pixels)
        shown[..., 0] = grey
        pixels = shown
    pixels = np.ascontiguousarray(pixels)
    height, width, _ = pixels.shape
    return QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def fill_rect(painter: QPainter, rect: QRectF, colour: str | QColor, radius: float = 0.0) -> None:
    """Fill a box without a border."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QBrush(QColor(colour)))
    painter.drawRoundedRect(rect, radius, radius)


def draw_clear(
    painter: QPainter, box: QRectF, side: Qt.AlignmentFlag, text: str, colour: str
) -> None:
    """Words with a thin dark rim, so that a line may pass behind them."""
    rim = QColor(LOOK.theme.stage)
    painter.setPen(rim)
    for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, -1), (1, 1), (-1, 1), (1, -1)):
        painter.drawText(box.translated(dx, dy), side, text)
    painter.setPen(QColor(colour))
    painter.drawText(box, side, text)


def draw_note(painter: QPainter, corner: QPointF, text: str, inside: QRectF) -> None:
    """Muted words with their left baseline at ``corner``, on a ground of their own so that no line
    crosses them.

    Where they would leave ``inside`` on the right they are moved back into it.
    """
    metrics = painter.fontMetrics()
    box = QRectF(
        corner.x(), corner.y() - metrics.ascent(), metrics.horizontalAdvance(text), metrics.height()
    )
    box.moveRight(min(box.right(), inside.right()))
    fill_rect(painter, box.adjusted(-3, 0, 3, 0), LOOK.theme.stage)
    painter.setPen(QColor(LOOK.theme.muted))
    painter.drawText(box, Qt.AlignmentFlag.AlignLeft, text)

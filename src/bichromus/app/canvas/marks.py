"""Marks over the picture: rings around cores and halos, arrows of what misses, discs that were
drawn, height lines.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter, QPen

from ..theme.look import LOOK, font
from ..widgets.paint import draw_tag

Kind = Literal["ring", "core", "arrow", "disc", "line", "words"]


@dataclass(frozen=True)
class Mark:
    """In pixels of the picture. ``size`` is a radius; of an arrow (dx, dy) is what it shows,
    ``size`` how many times enlarged; of a line it is where it goes to; ``words`` stand beside it.
    """

    kind: Kind
    x: float
    y: float
    size: float = 0.0
    dx: float = 0.0
    dy: float = 0.0
    words: str = ""


def paint_marks(
    painter: QPainter,
    marks: Sequence[Mark],
    to_screen: Callable[[float, float], QPointF],
    zoom: float,
) -> None:
    """Draw marks; ``to_screen`` takes picture to widget coordinates, ``zoom`` is their ratio."""
    t = LOOK.theme
    light = QColor(t.strong if t.id != "day" else "#ffffff")
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(font(9))
    for mark in marks:
        at = to_screen(mark.x, mark.y)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if mark.kind == "arrow":
            _arrow(painter, at, mark.dx * mark.size * zoom, mark.dy * mark.size * zoom, light)
        elif mark.kind == "line":
            painter.setPen(QPen(light, 1.1))
            painter.drawLine(at, to_screen(mark.x + mark.dx, mark.y + mark.dy))
        elif mark.kind == "disc":
            painter.setPen(QPen(light, 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(QColor(light.red(), light.green(), light.blue(), 38))
            painter.drawEllipse(at, mark.size * zoom, mark.size * zoom)
        elif mark.kind == "core":
            painter.setPen(QPen(light, 1.3))
            reach = max(mark.size * zoom, 5.0)
            for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                painter.drawLine(
                    QPointF(at.x() + dx * (reach + 2), at.y() + dy * (reach + 2)),
                    QPointF(at.x() + dx * (reach + 8), at.y() + dy * (reach + 8)),
                )
        elif mark.kind == "ring":
            painter.setPen(QPen(light, 1.2, Qt.PenStyle.DotLine))
            painter.drawEllipse(at, mark.size * zoom, mark.size * zoom)
        if mark.words:
            _words(
                painter,
                at,
                mark.words,
                max(mark.size * zoom, 8.0) if mark.kind != "arrow" else 6.0,
                light,
            )


def _arrow(painter: QPainter, at: QPointF, dx: float, dy: float, colour: QColor) -> None:
    painter.setPen(QPen(colour, 1.1))
    tip = QPointF(at.x() + dx, at.y() + dy)
    painter.drawLine(at, tip)
    length = float(np.hypot(dx, dy))
    if length > 4:
        for side in (0.45, -0.45):
            c, s = np.cos(side), np.sin(side)
            back = QPointF(dx * c - dy * s, dx * s + dy * c) * (4 / length)
            painter.drawLine(tip, tip - back)


def _words(painter: QPainter, at: QPointF, words: str, away: float, colour: QColor) -> None:
    width = painter.fontMetrics().horizontalAdvance(words) + 8
    box = QRectF(at.x() + away + 4, at.y() - 9, width, 18)
    back = QColor(LOOK.theme.stage)
    back.setAlpha(170)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back)
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(colour)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def paint_plate(painter: QPainter, box: QRectF) -> None:
    """The ground of words that stand over a picture."""
    back = QColor(LOOK.theme.panel)
    back.setAlpha(225)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back)
    painter.drawRoundedRect(box, 4, 4)


def paint_caption(painter: QPainter, tag: str, words: str) -> None:
    """The tag of a channel and what it is, in the corner of the picture."""
    t = LOOK.theme
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(font(10, QFont.Weight.DemiBold))
    name_width = painter.fontMetrics().horizontalAdvance(tag)
    painter.setFont(font(9.5))
    width = name_width + painter.fontMetrics().horizontalAdvance(words) + 44
    box = QRectF(12, 12, width, 26)
    paint_plate(painter, box)
    draw_tag(painter, QRectF(22, 18, 4, 14), tag)
    painter.setPen(QColor(t.strong))
    painter.setFont(font(10, QFont.Weight.DemiBold))
    painter.drawText(QRectF(32, 12, name_width + 4, 26), Qt.AlignmentFlag.AlignVCenter, tag)
    painter.setFont(font(9.5))
    painter.setPen(QColor(t.text))
    painter.drawText(QRectF(40 + name_width, 12, width, 26), Qt.AlignmentFlag.AlignVCenter, words)


def paint_words(painter: QPainter, words: str, left: float) -> None:
    """Words over the picture, at its upper edge."""
    t = LOOK.theme
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(font(9.5))
    width = painter.fontMetrics().horizontalAdvance(words) + 24
    box = QRectF(left, 12, width, 26)
    paint_plate(painter, box)
    painter.setPen(QColor(t.text))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

"""The balance dial: colour on one side, clean on the other, the suggested place marked."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QPainter, QPainterPath, QPaintEvent, QPen

from ..theme.look import LOOK, font
from .gesture import ValueGesture
from .plain import set_tip

_HALF_ANGLE = math.radians(35)


class BalanceDial(ValueGesture):
    """0 (colour) to 1 (clean) on a flat arc."""

    def __init__(self) -> None:
        super().__init__("balance", 0.0)
        self._suggested: float | None = None
        set_tip(
            self,
            "Balance: 0 makes every channel equally loud and keeps all colour,\n"
            "1 lets no channel bring more noise than the quietest. Keys [ and ].",
        )

    def sizeHint(self) -> QSize:
        return QSize(240, 94)

    def set_value(self, value: float, suggested: float | None) -> None:
        """Show a balance and the suggested one, without telling anybody; a gesture in hand is left
        alone.
        """
        self._show(value)
        self._suggested = suggested
        self.update()

    def _arc(self) -> tuple[QPointF, float]:
        width = self.width() - 24.0
        radius = width / 2 / math.sin(_HALF_ANGLE)
        return QPointF(self.width() / 2, 24 + radius), radius

    def point_of(self, share: float, out: float = 0.0) -> QPointF:
        """A place on the arc."""
        centre, radius = self._arc()
        angle = -_HALF_ANGLE + 2 * _HALF_ANGLE * share
        return QPointF(
            centre.x() + (radius + out) * math.sin(angle),
            centre.y() - (radius + out) * math.cos(angle),
        )

    def _path(self, end: float) -> QPainterPath:
        path = QPainterPath(self.point_of(0))
        for k in range(1, 41):
            path.lineTo(self.point_of(end * k / 40))
        return path

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(t.line), 3))
        painter.drawPath(self._path(1))
        painter.setPen(QPen(QColor(t.text), 3))
        painter.drawPath(self._path(max(self._value, 1e-3)))
        if self._suggested is not None:
            self._mark(painter, self._suggested)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(t.strong))
        painter.drawEllipse(
            self.point_of(self._value), 8 if self.hasFocus() else 7, 8 if self.hasFocus() else 7
        )
        painter.setFont(font(9.3))
        painter.setPen(QColor(t.muted))
        ends = QRectF(0, self.height() - 22, self.width(), 20)
        painter.drawText(ends, Qt.AlignmentFlag.AlignLeft, "colour")
        painter.drawText(ends, Qt.AlignmentFlag.AlignRight, "clean")
        painter.setFont(font(11.5, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(ends, Qt.AlignmentFlag.AlignHCenter, f"{self._value:.2f}")

    def _mark(self, painter: QPainter, share: float) -> None:
        t = LOOK.theme
        near = abs(share - self._value) < 0.02
        colour = QColor(t.muted if near else t.accent)
        painter.setPen(QPen(colour, 2))
        painter.drawLine(self.point_of(share, 6), self.point_of(share, 14))
        if near:
            return
        painter.setFont(font(9))
        place = self.point_of(share, 22)
        left = min(max(place.x() - 60, 0), self.width() - 120)
        painter.drawText(
            QRectF(left, max(place.y() - 14, 0), 120, 16),
            Qt.AlignmentFlag.AlignHCenter,
            f"suggested {share:.2f}",
        )

    def _take(self, x: float) -> None:
        centre, radius = self._arc()
        share = (math.asin(min(max((x - centre.x()) / radius, -1), 1)) + _HALF_ANGLE) / (
            2 * _HALF_ANGLE
        )
        self.go(share)

    def go(self, value: float) -> None:
        """Move to a balance and tell it."""
        self._move(round(min(max(value, 0.0), 1.0), 2))

    def nudge(self, step: float) -> None:
        """Move by a step; a pause ends the gesture."""
        self.go(self._value + step)
        self._pause.ask()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        steps = {
            Qt.Key.Key_Right: 0.02,
            Qt.Key.Key_Up: 0.02,
            Qt.Key.Key_Left: -0.02,
            Qt.Key.Key_Down: -0.02,
        }
        key = Qt.Key(event.key())
        if key not in steps:
            super().keyPressEvent(event)
            return
        self.nudge(steps[key])

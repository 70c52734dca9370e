"""One value: its name, a thin line with a knob, its figure."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent

from ..theme.look import LOOK, font
from .gesture import ValueGesture
from .plain import set_tip


class ValueSlider(ValueGesture):
    """Arrow keys step, Page keys step ten times, Home or a double click goes to the default."""

    def __init__(
        self,
        name: str,
        low: float,
        high: float,
        default: float,
        tip: str,
        step: float = 0.01,
        text: Callable[[float], str] | None = None,
    ) -> None:
        super().__init__(name, default)
        self.name, self.low, self.high, self.default, self.step = name, low, high, default, step
        self._text = text or (lambda v: f"{v:.2f}")
        set_tip(
            self,
            f"{tip}\nArrow keys step, Home or a double click brings back {self._text(default)}.",
        )

    def sizeHint(self) -> QSize:
        return QSize(240, 24)

    def set_value(self, value: float) -> None:
        """Show a value without telling anybody; ignored while a gesture is in hand."""
        self._show(value)

    def rail(self) -> tuple[float, float]:
        """Left and right end of the rail, px."""
        return 96.0, self.width() - 56.0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font())
        enabled = self.isEnabled()
        painter.setPen(QColor(t.strong if self.hasFocus() else t.text if enabled else t.faint))
        box = QRectF(0, 0, 96, self.height())
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, self.name)
        painter.setPen(QColor(t.strong if enabled else t.faint))
        painter.drawText(
            QRectF(0, 0, self.width(), self.height()),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            self._text(self._value),
        )
        left, right = self.rail()
        y = self.height() / 2
        share = (self._value - self.low) / (self.high - self.low)
        x = left + min(max(share, 0), 1) * (right - left)
        painter.setPen(QPen(QColor(t.line), 2))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        painter.setPen(QPen(QColor(t.muted if enabled else t.line), 2))
        painter.drawLine(QPointF(left, y), QPointF(x, y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(t.strong if enabled else t.faint))
        painter.drawEllipse(
            QPointF(x, y), 5.5 if self.hasFocus() else 4.5, 5.5 if self.hasFocus() else 4.5
        )

    def _take(self, x: float) -> None:
        left, right = self.rail()
        share = min(max((x - left) / max(right - left, 1), 0), 1)
        self._go(self.low + share * (self.high - self.low))

    def _go(self, value: float) -> None:
        self._move(round(min(max(round(value / self.step) * self.step, self.low), self.high), 6))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._dragging = False
        self._go(self.default)
        self.settled.emit(self._value)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None or not self.hasFocus():
            super().wheelEvent(event)
            return
        self._go(self._value + self.step * (1 if event.angleDelta().y() > 0 else -1))
        self._pause.ask()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        steps = {
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: 1,
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Down: -1,
            Qt.Key.Key_PageUp: 10,
            Qt.Key.Key_PageDown: -10,
        }
        key = Qt.Key(event.key())
        if key in steps:
            self._go(self._value + self.step * steps[key])
        elif key == Qt.Key.Key_Home:
            self._go(self.default)
        else:
            super().keyPressEvent(event)
            return
        self._pause.ask()

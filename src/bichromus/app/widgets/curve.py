"""A curve through points: lightness in along the foot, lightness out upward."""

from __future__ import annotations

from typing import Final

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...core.blend.tone import LightnessCurve
from ...core.model.settings import ToneSettings
from ..theme.look import LOOK, font
from .later import Pause
from .plain import set_tip

Points = tuple[tuple[float, float], ...]
_NEAR_PX: Final = 10.0
_APART: Final = 0.02
"""Two points never come closer: a curve has one value at each lightness."""
_KEY_STEP: Final = 0.01
_MOST: Final = 8


class CurveEditor(QWidget):
    """A click adds a point, a drag moves it, Delete or a double click takes it away; arrow keys
    move the chosen one, Page keys choose.

    ``moved`` while it goes, ``settled`` at the end of a gesture, with all points.
    """

    moved = pyqtSignal(object)
    settled = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.points: Points = ()
        self.chosen = -1
        self._dragging = False
        self._pause = Pause(self, lambda: self.settled.emit(self.points))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(self.sizeHint().height())
        self.setAccessibleName("curve of lightness")
        set_tip(
            self,
            "Lightness before along the foot, after upward; colour goes along.\n"
            "Click to add a point, drag it, double-click or Delete to take it away;\n"
            "arrow keys move the chosen one, Page keys choose another.",
        )
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(280, 150)

    @property
    def in_hand(self) -> bool:
        """A gesture has begun and not ended."""
        return self._dragging or self._pause.isActive()

    def show_points(self, points: Points) -> None:
        """Show points without telling anybody; a gesture in hand is left alone."""
        if not self.in_hand and points != self.points:
            self.points = points
            self.chosen = min(self.chosen, len(points) - 1)
            self.update()

    def _box(self) -> QRectF:
        return QRectF(2, 6, self.width() - 4, self.height() - 12)

    def place_of(self, point: tuple[float, float]) -> QPointF:
        """Where a point lies in the widget."""
        box = self._box()
        return QPointF(box.left() + point[0] * box.width(), box.bottom() - point[1] * box.height())

    def _value_at(self, at: QPointF) -> tuple[float, float]:
        box = self._box()
        return (at.x() - box.left()) / box.width(), (box.bottom() - at.y()) / box.height()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self._box()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(t.raised))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(QPen(QColor(t.line), 1))
        for share in (0.25, 0.5, 0.75):
            x, y = box.left() + share * box.width(), box.top() + share * box.height()
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        painter.setPen(QPen(QColor(t.faint), 1, Qt.PenStyle.DashLine))
        painter.drawLine(box.bottomLeft(), box.topRight())
        xs = np.linspace(0, 1, 120, dtype=np.float32)
        ys = LightnessCurve(ToneSettings(points=self.points))(xs)
        line = [self.place_of((float(x), float(y))) for x, y in zip(xs, ys, strict=True)]
        painter.setPen(QPen(QColor(t.text), 1.8))
        painter.drawPolyline(QPolygonF(line))
        for number, point in enumerate(self.points):
            here = number == self.chosen and self.hasFocus()
            painter.setPen(QPen(QColor(t.strong), 1.4))
            painter.setBrush(QColor(t.strong if here else t.panel))
            painter.drawEllipse(self.place_of(point), 5.0, 5.0)
        if self.hasFocus() and 0 <= self.chosen < len(self.points):
            x, y = self.points[self.chosen]
            painter.setFont(font(9))
            painter.setPen(QColor(t.muted))
            corner = box.adjusted(6, 4, -6, -4)
            painter.drawText(corner, Qt.AlignmentFlag.AlignLeft, f"{x:.2f} to {y:.2f}")

    def _near(self, at: QPointF) -> int:
        away = [(self.place_of(p) - at).manhattanLength() for p in self.points]
        best = int(np.argmin(away)) if away else -1
        return best if best >= 0 and away[best] <= _NEAR_PX else -1

    def _put(self, index: int, x: float, y: float) -> None:
        """Move a point as far as its neighbours let it."""
        ends = ((0.0, 0.0), *self.points, (1.0, 1.0))
        before, after = ends[index], ends[index + 2]
        x = min(max(x, before[0] + _APART), after[0] - _APART)
        y = min(max(y, before[1]), after[1])
        rest = list(self.points)
        rest[index] = (round(x, 3), round(y, 3))
        self.points = tuple(rest)
        self.update()
        self.moved.emit(self.points)

    def _add(self, x: float, y: float) -> None:
        ends = ((0.0, 0.0), *self.points, (1.0, 1.0))
        index = sum(p[0] < x for p in self.points)
        if len(self.points) >= _MOST or ends[index + 1][0] - ends[index][0] < 2 * _APART:
            return
        self.points = (*self.points[:index], (x, y), *self.points[index:])
        self.chosen = index
        self._put(index, x, y)

    def remove(self, index: int) -> None:
        """Take a point away."""
        if 0 <= index < len(self.points):
            self.points = (*self.points[:index], *self.points[index + 1 :])
            self.chosen = min(index, len(self.points) - 1)
            self.update()
            self.settled.emit(self.points)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.chosen = self._near(event.position())
        self._dragging = True
        if self.chosen < 0:
            self._add(*self._value_at(event.position()))
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._dragging and self.chosen >= 0:
            self._put(self.chosen, *self._value_at(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._dragging:
            self._dragging = False
            self.settled.emit(self.points)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._dragging = False
            self.remove(self._near(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = Qt.Key(event.key())
        steps = {
            Qt.Key.Key_Left: (-_KEY_STEP, 0.0),
            Qt.Key.Key_Right: (_KEY_STEP, 0.0),
            Qt.Key.Key_Up: (0.0, _KEY_STEP),
            Qt.Key.Key_Down: (0.0, -_KEY_STEP),
        }
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Insert):
            self._add(0.5, 0.5)
            self._pause.ask()
        elif key == Qt.Key.Key_Delete:
            self.remove(self.chosen)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown) and self.points:
            step = 1 if key == Qt.Key.Key_PageUp else -1
            self.chosen = (self.chosen + step) % len(self.points)
            self.update()
        elif key in steps and 0 <= self.chosen < len(self.points):
            x, y = self.points[self.chosen]
            self._put(self.chosen, x + steps[key][0], y + steps[key][1])
            self._pause.ask()
        else:
            super().keyPressEvent(event)

"""The local horizon drawn with the mouse."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ...theme.look import LOOK, font
from ...widgets.plain import set_tip

Points = tuple[tuple[float, float], ...]


class SkylineEditor(QWidget):
    """Click sets a point, drag moves it, a right click takes it away.

    ``drawn`` carries the points at the end of a gesture.
    """

    drawn = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.points: list[tuple[float, float]] = []
        self._held: int | None = None
        self.setFixedHeight(130)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("horizon")
        set_tip(
            self,
            "The horizon from north through east and back: click sets a point, drag moves it,\n"
            "a right click or Delete takes the last one away.",
        )

    def sizeHint(self) -> QSize:
        return QSize(380, 130)

    def show_points(self, points: Points) -> None:
        """Show a horizon."""
        if self._held is None:
            self.points = sorted(points)
            self.update()

    def place_of(self, azimuth: float, altitude: float) -> QPointF:
        """Where a direction in degrees lies in the widget."""
        return QPointF(azimuth / 360 * self.width(), (1 - altitude / 90) * (self.height() - 18))

    def _value(self, at: QPointF) -> tuple[float, float]:
        azimuth = min(max(at.x() / self.width() * 360, 0), 359.9)
        altitude = min(max((1 - at.y() / (self.height() - 18)) * 90, 0), 90)
        return round(azimuth), round(altitude)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        base = self.height() - 18
        painter.fillRect(QRectF(0, 0, self.width(), base), QColor(t.stage))
        if self.points:
            first, last = self.points[0], self.points[-1]
            span = first[0] + 360 - last[0]
            north = (
                first[1] if span <= 0 else last[1] + (first[1] - last[1]) * (360 - last[0]) / span
            )
            line = [
                self.place_of(0, north),
                *(self.place_of(*p) for p in self.points),
                self.place_of(360, north),
            ]
            painter.setPen(QPen(QColor(t.text), 1.4))
            painter.setBrush(QColor(t.raised))
            painter.drawPolygon(QPolygonF([QPointF(0, base), *line, QPointF(self.width(), base)]))
            painter.setBrush(QColor(t.strong))
            for p in self.points:
                painter.drawEllipse(self.place_of(*p), 3.5, 3.5)
        painter.setPen(QColor(t.muted))
        painter.setFont(font(8.6))
        for share, name in ((0, "N"), (0.25, "E"), (0.5, "S"), (0.75, "W")):
            painter.drawText(
                QRectF(share * self.width() + 2, base + 2, 30, 16), Qt.AlignmentFlag.AlignLeft, name
            )

    def _near(self, at: QPointF) -> int | None:
        for number, p in enumerate(self.points):
            if (self.place_of(*p) - at).manhattanLength() < 12:
                return number
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        near = self._near(event.position())
        if event.button() == Qt.MouseButton.RightButton:
            if near is not None:
                del self.points[near]
                self._tell()
            return
        if near is None:
            self.points.append(self._value(event.position()))
            near = len(self.points) - 1
        self._held = near
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._held is not None:
            self.points[self._held] = self._value(event.position())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._held is not None:
            self._held = None
            self._tell()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if (
            event is not None
            and event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace)
            and self.points
        ):
            self.points.pop()
            self._tell()
        else:
            super().keyPressEvent(event)

    def _tell(self) -> None:
        self.points.sort()
        self.update()
        self.drawn.emit(tuple(self.points))

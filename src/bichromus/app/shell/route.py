"""The route: the steps as stations on one line, in the order of the work."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from ..theme.look import LOOK, font

State = Literal["empty", "half", "full"]
_GAP = 132


@dataclass(frozen=True)
class Station:
    """A step on the route: ``count`` things want a decision there."""

    id: str
    title: str
    state: State = "empty"
    count: int = 0
    tip: str = ""


class Route(QWidget):
    """Click a station, or left and right keys; ``chosen`` carries its id."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.stations: list[Station] = []
        self.current = ""
        self.setFixedHeight(52)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("route")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(80 * max(len(self.stations), 1), 52)

    def show_stations(self, stations: list[Station], current: str) -> None:
        self.stations, self.current = stations, current
        self.update()

    @property
    def _gap(self) -> float:
        """From station to station; smaller in a narrow window."""
        return min(_GAP, self.width() / max(len(self.stations), 1))

    def _centre(self, index: int) -> QPointF:
        first = self.width() / 2 - self._gap * (len(self.stations) - 1) / 2
        return QPointF(first + index * self._gap, 20)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.stations:
            return
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(t.faint), 1.5))
        painter.drawLine(self._centre(0), self._centre(len(self.stations) - 1))
        for index, station in enumerate(self.stations):
            self._paint_station(painter, self._centre(index), station)

    def _paint_station(self, painter: QPainter, centre: QPointF, station: Station) -> None:
        t = LOOK.theme
        here = station.id == self.current
        painter.setPen(QPen(QColor(t.strong if here else t.muted), 1.6))
        painter.setBrush(QColor(t.panel))
        if here:
            painter.drawEllipse(centre, 11, 11)
        painter.drawEllipse(centre, 6, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(t.strong if here else t.muted))
        disc = QRectF(centre.x() - 6, centre.y() - 6, 12, 12)
        if station.state == "full":
            painter.drawEllipse(disc)
        elif station.state == "half":
            painter.drawPie(disc, 90 * 16, 180 * 16)
        if station.count:
            badge = QRectF(centre.x() + 11, 4, 20, 14)
            painter.setBrush(QColor(t.accent))
            painter.drawRoundedRect(badge, 7, 7)
            painter.setPen(QColor(t.ground))
            painter.setFont(font(8.5, QFont.Weight.DemiBold))
            painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(station.count))
        painter.setPen(QColor(t.strong if here else t.muted))
        painter.setFont(font(9.6, QFont.Weight.DemiBold if here else QFont.Weight.Normal))
        words = QRectF(centre.x() - self._gap / 2, 32, self._gap, 18)
        painter.drawText(words, Qt.AlignmentFlag.AlignCenter, station.title)
        if here and self.hasFocus():
            width = painter.fontMetrics().horizontalAdvance(station.title)
            painter.drawLine(
                QPointF(centre.x() - width / 2, 50), QPointF(centre.x() + width / 2, 50)
            )

    def _index_at(self, x: float) -> int | None:
        for index in range(len(self.stations)):
            if abs(self._centre(index).x() - x) < self._gap / 2:
                return index
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        if index is not None:
            self.chosen.emit(self.stations[index].id)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        ids = [s.id for s in self.stations]
        if (
            event is None
            or event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right)
            or self.current not in ids
        ):
            super().keyPressEvent(event)
            return
        step = 1 if event.key() == Qt.Key.Key_Right else -1
        self.chosen.emit(ids[min(max(ids.index(self.current) + step, 0), len(ids) - 1)])

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            index = self._index_at(float(event.pos().x()))
            if index is not None:
                station = self.stations[index]
                QToolTip.showText(
                    event.globalPos(),
                    f"{station.title} (key {index + 1})\n{station.tip}".strip(),
                    self,
                )
            return True
        return super().event(event)

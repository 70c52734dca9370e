"""The route: the steps as marks on one line, in the order of the work."""

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
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ..theme.look import LOOK, font
from ..widgets.plain import show_tip

StepState = Literal["empty", "half", "full"]
_GAP = 132


@dataclass(frozen=True)
class StepMark:
    """A step on the route: ``count`` things want a decision there."""

    id: str
    title: str
    state: StepState = "empty"
    count: int = 0
    tip: str = ""


class Route(QWidget):
    """Click a station, or left and right keys; ``chosen`` carries its id."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.marks: list[StepMark] = []
        self.current = ""
        self.setFixedHeight(52)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("route")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(80 * max(len(self.marks), 1), 52)

    def show_steps(self, marks: list[StepMark], current: str) -> None:
        """Show the marks, and which step is in view."""
        self.marks, self.current = marks, current
        self.update()

    @property
    def _gap(self) -> float:
        """From mark to mark; smaller in a narrow window."""
        return min(_GAP, self.width() / max(len(self.marks), 1))

    def centre_of(self, index: int) -> QPointF:
        """The middle of a mark."""
        first = self.width() / 2 - self._gap * (len(self.marks) - 1) / 2
        return QPointF(first + index * self._gap, 20)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.marks:
            return
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(t.faint), 1.5))
        painter.drawLine(self.centre_of(0), self.centre_of(len(self.marks) - 1))
        for index, mark in enumerate(self.marks):
            self._paint_mark(painter, self.centre_of(index), mark)

    def _paint_mark(self, painter: QPainter, centre: QPointF, mark: StepMark) -> None:
        t = LOOK.theme
        here = mark.id == self.current
        painter.setPen(QPen(QColor(t.strong if here else t.muted), 1.6))
        painter.setBrush(QColor(t.panel))
        if here:
            painter.drawEllipse(centre, 11, 11)
        painter.drawEllipse(centre, 6, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(t.strong if here else t.muted))
        disc = QRectF(centre.x() - 6, centre.y() - 6, 12, 12)
        if mark.state == "full":
            painter.drawEllipse(disc)
        elif mark.state == "half":
            painter.drawPie(disc, 90 * 16, 180 * 16)
        if mark.count:
            badge = QRectF(centre.x() + 11, 4, 20, 14)
            painter.setBrush(QColor(t.accent))
            painter.drawRoundedRect(badge, 7, 7)
            painter.setPen(QColor(t.ground))
            painter.setFont(font(8.5, QFont.Weight.DemiBold))
            painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(mark.count))
        painter.setPen(QColor(t.strong if here else t.muted))
        painter.setFont(font(9.6, QFont.Weight.DemiBold if here else QFont.Weight.Normal))
        words = QRectF(centre.x() - self._gap / 2, 32, self._gap, 18)
        painter.drawText(words, Qt.AlignmentFlag.AlignCenter, mark.title)
        if here and self.hasFocus():
            width = painter.fontMetrics().horizontalAdvance(mark.title)
            painter.drawLine(
                QPointF(centre.x() - width / 2, 50), QPointF(centre.x() + width / 2, 50)
            )

    def _index_at(self, x: float) -> int | None:
        for index in range(len(self.marks)):
            if abs(self.centre_of(index).x() - x) < self._gap / 2:
                return index
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        if index is not None:
            self.chosen.emit(self.marks[index].id)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        ids = [s.id for s in self.marks]
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
                mark = self.marks[index]
                show_tip(
                    event.globalPos(),
                    f"{mark.title} (key {index + 1})\n{mark.tip}".strip(),
                    self,
                )
            return True
        return super().event(event)

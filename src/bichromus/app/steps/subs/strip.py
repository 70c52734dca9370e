"""The neighbours of a sub as a strip of small pictures, the sub itself in the middle where there
are enough.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....workspace.subs.groups import Group, Reviewed
from ...theme.look import LOOK
from ...widgets.paint import fill_rect, image_of
from ...widgets.plain import show_tip

_W, _H, _GAP = 66, 44, 6


class Strip(QWidget):
    """A click goes to a sub. Under each: a line where it is kept, a cross where it is out, a dot
    where it waits.
    """

    chosen = pyqtSignal(int)

    def __init__(self, thumb_of: Callable[[str], np.ndarray | None]) -> None:
        super().__init__()
        self._thumb_of = thumb_of
        self._group: Group | None = None
        self._index = 0
        self._pixmaps: dict[str, QPixmap] = {}
        self.setFixedHeight(_H + 22)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("neighbouring subs")
        LOOK.changed.connect(self.forget)

    def sizeHint(self) -> QSize:
        return QSize(760, _H + 22)

    def show_group(self, group: Group | None, index: int) -> None:
        """Show the neighbours of the sub in view."""
        if group is None or self._group is None or group.key != self._group.key:
            self._pixmaps.clear()
        self._group, self._index = group, index
        self.update()

    def forget(self) -> None:
        """Ask for all pictures anew."""
        self._pixmaps.clear()
        self.update()

    def put(self, file: str) -> None:
        """A thumbnail is ready."""
        self._pixmaps.pop(file, None)
        self.update()

    def rect_of(self, index: int) -> QRectF:
        """Where the thumbnail of a sub lies."""
        return QRectF(self.width() / 2 - _W / 2 + (index - self._middle()) * (_W + _GAP), 3, _W, _H)

    def _middle(self) -> float:
        """The place in the group that stands in the middle: the sub itself, but for the ends of the
        group.
        """
        half, last = (
            (self.width() / (_W + _GAP) - 1) / 2,
            (len(self._group.subs) if self._group else 1) - 1,
        )
        return min(max(self._index, half), max(last - half, half)) if last > 2 * half else last / 2

    def _seen(self) -> range:
        if self._group is None:
            return range(0)
        reach, middle = int(self.width() / 2 / (_W + _GAP)) + 1, round(self._middle())
        return range(max(middle - reach, 0), min(middle + reach + 1, len(self._group.subs)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index in self._seen():
            assert self._group is not None
            self._paint(painter, self.rect_of(index), self._group.subs[index], index == self._index)

    def _paint(self, painter: QPainter, box: QRectF, r: Reviewed, here: bool) -> None:
        t = LOOK.theme
        fill_rect(painter, box, t.stage)
        picture = self._pixmap(r.sub.file)
        if picture is not None:
            painter.setOpacity(1.0 if r.sub.kept else 0.35)
            painter.drawPixmap(box, picture, QRectF(picture.rect()))
            painter.setOpacity(1.0)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(t.strong if here else t.line), 2 if here else 1))
        painter.drawRect(box)
        below = QPointF(box.center().x(), box.bottom() + 10)
        if not r.sub.kept:
            painter.setPen(QPen(QColor(t.text), 1.8))
            painter.drawLine(below + QPointF(-4, -4), below + QPointF(4, 4))
            painter.drawLine(below + QPointF(-4, 4), below + QPointF(4, -4))
        elif r.waiting:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(t.accent))
            painter.drawEllipse(below, 4, 4)
        elif r.sub.mark:
            fill_rect(painter, QRectF(below.x() - 8, below.y() - 1, 16, 2), t.text, 1)

    def _pixmap(self, file: str) -> QPixmap | None:
        if file not in self._pixmaps:
            pixels = self._thumb_of(file)
            if pixels is None:
                return None
            self._pixmaps[file] = QPixmap.fromImage(image_of(pixels))
        return self._pixmaps[file]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            for index in self._seen():
                if self.rect_of(index).adjusted(-3, 0, 3, 20).contains(event.position()):
                    self.chosen.emit(index)

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._group is not None:
            for index in self._seen():
                if self.rect_of(index).contains(event.pos().toPointF()):
                    r = self._group.subs[index]
                    state = "kept" if r.sub.kept else f"out: {r.sub.reason or 'by hand'}"
                    show_tip(event.globalPos(), f"{r.sub.file.rsplit('/', 1)[-1]}\n{state}", self)
            return True
        return super().event(event)  # type: ignore[arg-type]

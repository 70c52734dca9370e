"""A strip of small pictures to choose from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QWidget

from ..theme.look import LOOK, font
from .paint import draw_tag, fill_rect, image_of
from .plain import set_tip

_W, _H, _GAP = 124, 82, 8


@dataclass(frozen=True)
class Item:
    """One thing to choose: id, title, a second line, the tag of its channel, a tooltip."""

    id: str
    title: str
    remark: str = ""
    tag: str | None = None
    tip: str = ""


class _Row(QWidget):
    chosen = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.items: list[Item] = []
        self.pictures: dict[str, np.ndarray] = {}
        self._pixmaps: dict[str, QPixmap] = {}
        self.current: str | None = None
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        LOOK.changed.connect(self._restyle)

    def _restyle(self) -> None:
        self._pixmaps.clear()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(max(len(self.items), 1) * (_W + _GAP) + 2, _H + 40)

    def rect_of(self, index: int) -> QRectF:
        return QRectF(2 + index * (_W + _GAP), 2, _W - 4, _H - 4)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, item in enumerate(self.items):
            box = self.rect_of(index)
            fill_rect(painter, box, t.stage)
            picture = self._pixmap(item.id)
            if picture is not None:
                scaled = picture.size().scaled(
                    box.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio
                )
                inner = QRectF(
                    box.center().x() - scaled.width() / 2,
                    box.center().y() - scaled.height() / 2,
                    scaled.width(),
                    scaled.height(),
                )
                painter.drawPixmap(inner, picture, QRectF(picture.rect()))
            here = item.id == self.current
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(t.strong if here else t.line), 2 if here else 1))
            painter.drawRect(box)
            self._words(painter, box, item, here)

    def _words(self, painter: QPainter, box: QRectF, item: Item, here: bool) -> None:
        t = LOOK.theme
        left = box.left()
        if item.tag is not None:
            draw_tag(painter, QRectF(left, box.bottom() + 6, 4, 12), item.tag)
            left += 9
        painter.setFont(font(8.8, QFont.Weight.DemiBold if here else QFont.Weight.Normal))
        painter.setPen(QColor(t.strong if here else t.text))
        room = QRectF(left, box.bottom() + 4, box.right() - left + 4, 16)
        text = painter.fontMetrics().elidedText(
            item.title, Qt.TextElideMode.ElideRight, int(room.width())
        )
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft, text)
        painter.setFont(font(8.4))
        painter.setPen(QColor(t.muted))
        painter.drawText(
            QRectF(box.left(), box.bottom() + 20, _W, 16), Qt.AlignmentFlag.AlignLeft, item.remark
        )

    def _pixmap(self, item_id: str) -> QPixmap | None:
        if item_id not in self._pixmaps and item_id in self.pictures:
            self._pixmaps[item_id] = QPixmap.fromImage(image_of(self.pictures[item_id]))
        return self._pixmaps.get(item_id)

    def put(self, item_id: str, pixels: np.ndarray) -> None:
        self.pictures[item_id] = pixels
        self._pixmaps.pop(item_id, None)
        self.update()

    def _index_at(self, x: float) -> int | None:
        index = int((x - 2) // (_W + _GAP))
        return index if 0 <= index < len(self.items) else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        set_tip(self, self.items[index].tip if index is not None else "")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        if index is not None:
            self.chosen.emit(self.items[index].id)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        ids = [i.id for i in self.items]
        if event is None or not ids or event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            super().keyPressEvent(event)
            return
        here = ids.index(self.current) if self.current in ids else 0
        step = 1 if event.key() == Qt.Key.Key_Right else -1
        self.chosen.emit(ids[min(max(here + step, 0), len(ids) - 1)])


class Sheet(QScrollArea):
    """Thumbnails in a row with their titles; ``chosen`` carries an id. Left and right keys step."""

    chosen = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.row = _Row(name)
        self.row.chosen.connect(self.chosen)
        self.setWidget(self.row)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedHeight(_H + 44)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def set_items(self, items: list[Item], current: str | None) -> None:
        """Show these thumbnails, one of them chosen."""
        if (items, current) == (self.row.items, self.row.current):
            return
        self.row.items, self.row.current = items, current
        self.setFixedHeight(_H + (44 if any(i.remark for i in items) else 28))
        self.row.setMinimumWidth(self.row.sizeHint().width())
        self.row.update()
        ids = [i.id for i in items]
        if current in ids:
            box = self.row.rect_of(ids.index(current))
            self.ensureVisible(int(box.center().x()), 10, _W, 0)

    def beside(self, item_id: str | None, by: int) -> str | None:
        """The id of the thumbnail so many places on, from the last to the first; None: there are
        none.
        """
        ids = [i.id for i in self.row.items]
        if not ids:
            return None
        return ids[((ids.index(item_id) if item_id in ids else 0) + by) % len(ids)]

    def mark(self, item_id: str) -> None:
        """Show which one is on the stage."""
        self.set_items(self.row.items, item_id)

    def put(self, item_id: str, pixels: np.ndarray) -> None:
        """Give a thumbnail, (H, W, 3) bytes."""
        self.row.put(item_id, pixels)

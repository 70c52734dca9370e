"""The wall: versions hung like pictures in a dark room."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QScrollArea, QWidget

from ...theme.look import LOOK, font
from ...widgets.paint import fill_rect, image_of
from ...widgets.plain import set_tip

_WIDEST: Final = 380  # px of a place on the wall
_MARGIN, _GAP = 34, 30
_WORDS: Final = 104  # px under a picture for its words
_RATIO: Final = 0.70  # height of a picture's place over its width
_MAT: Final = 5


@dataclass(frozen=True)
class Hung:
    """What hangs in one place: which version, its picture's name, and its words."""

    name: str
    picture: str
    lines: tuple[str, ...]
    favourite: bool = False


class Wall(QScrollArea):
    """``looked_at`` tells the version under the frame, ``picked`` that the picks have changed,
    ``opened`` that the picks are to be compared, ``wanted`` a picture that is to be drawn;
    ``favourite``, ``removed`` what is to be done with the version under the frame.
    """

    looked_at = pyqtSignal(str)
    picked = pyqtSignal()
    opened = pyqtSignal()
    wanted = pyqtSignal(str)
    favourite = pyqtSignal(str)
    removed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.room = _Room(self)
        self.setWidget(self.room)

    @property
    def picks(self) -> list[str]:
        """The versions picked, one or two."""
        return self.room.picks

    def set_picks(self, names: list[str]) -> None:
        """Pick these."""
        self.room.picks = [n for n in names if any(h.name == n for h in self.room.hung)][-2:]
        self.picked.emit()
        self.room.update()

    def show_versions(self, hung: list[Hung]) -> None:
        """Hang these."""
        self.room.show_versions(hung)

    def put(self, picture: str, pixels: np.ndarray | None) -> None:
        """A picture has come; None: it cannot be read."""
        self.room.put(picture, pixels)

    def look_at(self, name: str) -> None:
        """Put the frame on a version."""
        self.room.look_at(name)


class _Room(QWidget):
    def __init__(self, wall: Wall) -> None:
        super().__init__()
        self._wall = wall
        self.hung: list[Hung] = []
        self.picks: list[str] = []
        self.current = -1
        self._pictures: dict[str, QImage | None] = {}
        self._asked: set[str] = set()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("wall of versions")
        set_tip(
            self,
            "Arrows go from picture to picture, Space picks one or two, Return compares them;\n"
            "* marks a favourite, Delete takes one off the wall.",
        )
        LOOK.changed.connect(self._restyle)

    def show_versions(self, hung: list[Hung]) -> None:
        before = self._name
        self.hung = hung
        names = [h.name for h in hung]
        kept = [p for p in self.picks if p in names]
        if kept != self.picks:
            self.picks = kept
            self._wall.picked.emit()
        self.current = names.index(before) if before in names else min(self.current, len(hung) - 1)
        if self.current < 0 and hung:
            self.current = 0
        self._fit()
        self._tell()
        self.update()

    def put(self, picture: str, pixels: np.ndarray | None) -> None:
        self._pictures[picture] = image_of(pixels) if pixels is not None else None
        self.update()

    def look_at(self, name: str) -> None:
        names = [h.name for h in self.hung]
        if name in names:
            self._go(names.index(name))

    def pick(self, name: str) -> None:
        """Pick a version, or no longer; of three the first is let go."""
        if name in self.picks:
            self.picks.remove(name)
        else:
            self.picks = [*self.picks, name][-2:]
        self._wall.picked.emit()
        self.update()

    def _restyle(self) -> None:
        self._pictures.clear()
        self._asked.clear()  # they come again in the colours of the theme
        self.update()

    @property
    def _name(self) -> str:
        """The version under the frame."""
        return self.hung[self.current].name if 0 <= self.current < len(self.hung) else ""

    def _tell(self) -> None:
        self._wall.looked_at.emit(self._name)

    # --- places ---

    @property
    def columns(self) -> int:
        """How many hang side by side."""
        inside = self.width() - 2 * _MARGIN + _GAP
        return max(1, -(-inside // (_WIDEST + _GAP)))

    def place_of(self, index: int) -> QRectF:
        """Where a version hangs, its words with it."""
        columns = self.columns
        width = (self.width() - 2 * _MARGIN - (columns - 1) * _GAP) / columns
        height = width * _RATIO + _WORDS
        row, column = divmod(index, columns)
        left = _MARGIN + column * (width + _GAP)
        return QRectF(left, _MARGIN + row * (height + _GAP / 2), width, height)

    def sizeHint(self) -> QSize:
        last = self.place_of(max(len(self.hung) - 1, 0))
        return QSize(400, round(last.bottom() + _MARGIN / 2))

    def _fit(self) -> None:
        self.setMinimumHeight(self.sizeHint().height())

    def resizeEvent(self, event: object) -> None:
        self._fit()

    def _at(self, place: QPointF) -> int:
        return next((i for i in range(len(self.hung)) if self.place_of(i).contains(place)), -1)

    def _go(self, index: int) -> None:
        if not 0 <= index < len(self.hung):
            return
        self.current = index
        place = self.place_of(index)
        self._wall.ensureVisible(
            round(place.center().x()), round(place.center().y()), 10, round(place.height() / 2)
        )
        self._tell()
        self.update()

    # --- drawn ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        seen = QRectF(event.rect()) if event is not None else QRectF(self.rect())
        painter.fillRect(seen, QColor(LOOK.theme.stage))
        for index, hung in enumerate(self.hung):
            place = self.place_of(index)
            if place.intersects(seen):
                self._paint_one(painter, place, hung, index == self.current)

    def _paint_one(self, painter: QPainter, place: QRectF, hung: Hung, current: bool) -> None:
        t = LOOK.theme
        room = QRectF(place.left(), place.top(), place.width(), place.height() - _WORDS)
        image = self._pictures.get(hung.picture)
        if hung.picture not in self._pictures and hung.picture not in self._asked:
            self._asked.add(hung.picture)
            self._wall.wanted.emit(hung.picture)
        frame = _fitted(room, image)
        mat = frame.adjusted(-_MAT, -_MAT, _MAT, _MAT)
        fill_rect(painter, mat, t.panel)
        if image is not None:
            painter.drawImage(frame, image)
        elif hung.picture in self._pictures:
            painter.setPen(QColor(t.muted))
            painter.drawText(frame, Qt.AlignmentFlag.AlignCenter, "its picture cannot be read")
        if hung.name in self.picks:
            self._paint_pick(painter, frame, self.picks.index(hung.name) + 1)
        edge = t.strong if current and self.hasFocus() else t.muted if current else t.line
        painter.setPen(QPen(QColor(edge), 1.5 if current else 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(mat)
        self._paint_words(painter, mat, place, hung, current)

    def _paint_pick(self, painter: QPainter, frame: QRectF, number: int) -> None:
        t = LOOK.theme
        badge = QRectF(frame.left() + 8, frame.top() + 8, 26, 26)
        fill_rect(painter, badge, t.strong, 13)
        painter.setPen(QColor(t.stage))
        painter.setFont(font(10.5, QFont.Weight.DemiBold))
        painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(number))

    def _paint_words(
        self, painter: QPainter, mat: QRectF, place: QRectF, hung: Hung, current: bool
    ) -> None:
        t = LOOK.theme
        line = QRectF(mat.left() + 2, mat.bottom() + 10, place.right() - mat.left() - 4, 20)
        painter.setFont(font(10.5, QFont.Weight.Medium))
        painter.setPen(QColor(t.strong if current else t.text))
        title = f"★ {hung.name}" if hung.favourite else hung.name
        _draw_line(painter, line, title)
        painter.setFont(font(9.0))
        painter.setPen(QColor(t.muted))
        for number, words in enumerate(hung.lines):
            below = line.translated(0, 21 + 17 * number)
            if below.bottom() <= place.bottom() + 2:
                _draw_line(painter, below, words)

    # --- events ---

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self.setFocus()
        index = self._at(event.position())
        if index >= 0:
            self._go(index)
            self.pick(self.hung[index].name)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        index = self._at(event.position()) if event is not None else -1
        if index >= 0:
            if self.hung[index].name not in self.picks:
                self.pick(self.hung[index].name)
            self._wall.opened.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self.hung:
            return
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self.columns,
            Qt.Key.Key_Down: self.columns,
        }
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        name = self._name
        if key in steps:
            self._go(self.current + steps[key])
        elif key == Qt.Key.Key_Space and name:
            self.pick(name)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and name:
            if not self.picks:
                self.pick(name)
            self._wall.opened.emit()
        elif key == Qt.Key.Key_Asterisk and name:
            self._wall.favourite.emit(name)
        elif key == Qt.Key.Key_Delete and name:
            self._wall.removed.emit(name)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()


def _fitted(room: QRectF, image: QImage | None) -> QRectF:
    """The picture in its place, at the foot of it, so that all hang on one line."""
    inner = room.adjusted(_MAT, _MAT, -_MAT, -_MAT)
    if image is None or image.isNull():
        return inner
    scale = min(inner.width() / image.width(), inner.height() / image.height())
    width, height = image.width() * scale, image.height() * scale
    return QRectF(inner.left(), inner.bottom() - height, width, height)


def _draw_line(painter: QPainter, line: QRectF, words: str) -> None:
    cut = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(line.width()))
    painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, cut)

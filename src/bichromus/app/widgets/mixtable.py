"""The mix table: rows are channels, columns are outputs, a number and a fill in each cell."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ..theme.look import LOOK, font, tag_colour
from .paint import draw_tag, fill_rect
from .plain import set_tip

_ROW, _HEAD, _FOOT, _NAME = 28, 22, 22, 48
OUTPUTS = (("R", "red"), ("G", "green"), ("B", "blue"))
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class MixTable(QWidget):
    """Drag a cell sideways, type a number, or use arrow keys; Delete empties it. A fourth column
    tells what the lightness takes; ``luminance_asked`` when it is clicked. What lines on top add
    stands with a plus.

    ``moved`` (output, channel, weight) while it goes, ``settled`` at the end of a gesture.
    """

    luminance_asked = pyqtSignal()
    moved = pyqtSignal(str, str, float)
    settled = pyqtSignal(str, str, float)

    def __init__(self) -> None:
        super().__init__()
        self.channels: list[str] = []
        self.mix: dict[str, dict[str, float]] = {}
        self._noise: dict[str, float] = {}
        self._light: dict[str, float] = {}
        self._on_top: dict[str, dict[str, float]] = {}
        self._cell = (0, 0)
        self._drag: tuple[float, float] | None = None
        self._typed = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("mix table")
        set_tip(
            self,
            "What red, green, blue and the lightness take of each channel.\n"
            "Drag a cell sideways, type a number, or hold "
            "Shift with the arrow keys; Delete empties it.",
        )
        LOOK.changed.connect(self.update)

    def show_mix(
        self,
        channels: list[str],
        mix: dict[str, dict[str, float]],
        noise: dict[str, float],
        light: dict[str, float] | None = None,
        on_top: dict[str, dict[str, float]] | None = None,
    ) -> None:
        """Show weights, the predicted noise of each output (sRGB code), what the lightness takes of
        each channel, and what lines add to each output.
        """
        self._noise, self._light, self._on_top = noise, light or {}, on_top or {}
        if self._drag is None and not self._typed:
            self.channels, self.mix = channels, {o: dict(r) for o, r in mix.items()}
            self._cell = (min(self._cell[0], max(len(channels) - 1, 0)), self._cell[1])
            self.updateGeometry()
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(280, _HEAD + _ROW * max(len(self.channels), 1) + _FOOT)

    def weight(self, row: int, column: int) -> float:
        """The weight of a cell."""
        return self.mix.get(OUTPUTS[column][0], {}).get(self.channels[row], 0.0)

    def cell_rect(self, row: int, column: int) -> QRectF:
        """Where a cell lies."""
        width = (self.width() - _NAME) / 4
        return QRectF(_NAME + column * width + 4, _HEAD + row * _ROW + 2, width - 4, _ROW - 4)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(9))
        painter.setPen(QColor(t.muted))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for column, (_, words) in enumerate(OUTPUTS):
            box = self.cell_rect(0, column)
            painter.drawText(QRectF(box.left(), 0, box.width() - 6, _HEAD - 2), right, words)
        box = self.cell_rect(0, 3)
        painter.drawText(QRectF(box.left(), 0, box.width() - 2, _HEAD - 2), right, "light")
        for row, name in enumerate(self.channels):
            self._paint_row(painter, row, name)
        if not self._noise:
            return
        painter.setFont(font(9))
        painter.setPen(QColor(t.muted))
        top = _HEAD + _ROW * len(self.channels)
        painter.drawText(QRectF(0, top, _NAME, _FOOT), Qt.AlignmentFlag.AlignVCenter, "noise")
        for column, (output, _) in enumerate(OUTPUTS):
            box = self.cell_rect(0, column)
            painter.drawText(
                QRectF(box.left(), top, box.width() - 6, _FOOT),
                right,
                f"{100 * self._noise.get(output, 0):.1f} %",
            )

    def _paint_row(self, painter: QPainter, row: int, name: str) -> None:
        t = LOOK.theme
        y = _HEAD + row * _ROW
        draw_tag(painter, QRectF(0, y + 7, 4, _ROW - 14), name)
        painter.setFont(font(10, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(QRectF(12, y, _NAME - 12, _ROW), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(font())
        for column in range(3):
            box, weight = self.cell_rect(row, column), self.weight(row, column)
            fill_rect(painter, box, t.raised, 2)
            if weight:
                share = min(abs(weight), 1.0)
                fill_rect(
                    painter,
                    QRectF(box.left(), box.bottom() - 3, box.width() * share, 3),
                    tag_colour(name),
                )
            here = self.hasFocus() and self._cell == (row, column)
            if here:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(t.text), 1.2))
                painter.drawRoundedRect(box, 2, 2)
            added = self._on_top.get(OUTPUTS[column][0], {}).get(name, 0.0)
            text = f"+{added:.2f}" if added and not weight else f"{weight:.2f}"
            if here and self._typed:
                text = self._typed + "_"
            painter.setPen(QColor(t.strong if weight or added or here else t.faint))
            painter.drawText(box.adjusted(4, 0, -6, -2), _RIGHT, text)
        light = self._light.get(name, 0.0)
        painter.setPen(QColor(t.strong if light else t.faint))
        words = f"{light:.2f}" if light else "–"
        painter.drawText(self.cell_rect(row, 3).adjusted(0, 0, -2, -2), _RIGHT, words)

    def _hit(self, place: QPointF) -> tuple[int, int] | None:
        for row in range(len(self.channels)):
            for column in range(3):
                if self.cell_rect(row, column).contains(place):
                    return row, column
        return None

    def _put(self, weight: float, done: bool) -> None:
        row, column = self._cell
        output, name = OUTPUTS[column][0], self.channels[row]
        weight = round(min(max(weight, -1.0), 1.0), 2)
        self.mix.setdefault(output, {})[name] = weight
        self.update()
        (self.settled if done else self.moved).emit(output, name, weight)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        found = self._hit(event.position()) if event is not None else None
        if event is not None and found is not None:
            self._typed = ""
            self._cell = found
            self._drag = (event.position().x(), self.weight(*found))
            self.update()
        elif event is not None and event.position().x() >= self.cell_rect(0, 3).left():
            self.luminance_asked.emit()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._drag is not None:
            start, weight = self._drag
            shift = (event.position().x() - start) / (self.width() - _NAME) * 2
            if abs(shift) > 0.02:
                self._put(max(weight + shift, 0.0), False)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is not None:
            moved = self.weight(*self._cell) != self._drag[1]
            self._drag = None
            if moved:
                self._put(self.weight(*self._cell), True)

    def event(self, event: QEvent | None) -> bool:
        """What is typed into a cell is not a shortcut of the window."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            typing = bool(event.text()) and event.text() in "0123456789.,-"
            if typing or (self._typed and event.key() == Qt.Key.Key_Escape):
                event.accept()
                return True
        return super().event(event)

    def focusOutEvent(self, event: object) -> None:
        self._finish_typing()
        self.update()

    def _finish_typing(self) -> None:
        typed, self._typed = self._typed, ""
        try:
            weight = float(typed.replace(",", "."))
        except ValueError:
            return
        self._put(weight, True)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self.channels:
            return
        key, text = Qt.Key(event.key()), event.text()
        row, column = self._cell
        moves = {
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
        }
        if text and text in "0123456789.,-":
            self._typed += text
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._finish_typing()
        elif key == Qt.Key.Key_Escape and self._typed:
            self._typed = ""
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._typed = self._typed[:-1]
            if not self._typed and key == Qt.Key.Key_Delete:
                self._put(0.0, True)
        elif key in moves and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._put(self.weight(row, column) + 0.05 * (moves[key][1] - moves[key][0]), True)
        elif key in moves:
            self._finish_typing()
            down, across = moves[key]
            self._cell = (
                min(max(row + down, 0), len(self.channels) - 1),
                min(max(column + across, 0), 2),
            )
        else:
            super().keyPressEvent(event)
            return
        self.update()

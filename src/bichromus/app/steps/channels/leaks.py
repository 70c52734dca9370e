"""What the planes of a colour camera see of each line: bars that show the leaks."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import fill_rect
from ...widgets.plain import set_tip

_ROW = 26
_PLANES = (("R", "red"), ("G", "green"), ("B", "blue"))


class LeakBars(QWidget):
    """One row a plane, one bar a line, and the leak in words."""

    def __init__(self) -> None:
        super().__init__()
        self._table: dict[str, dict[str, float]] = {}
        self.lines: tuple[str, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("what the colour planes see of each line")
        set_tip(
            self,
            "How strongly each colour plane of the camera answers to each line (the sensor "
            "response).\n"
            "The smaller bar is the leak that the extraction takes out.",
        )
        LOOK.changed.connect(self.update)

    def show_table(self, table: dict[str, dict[str, float]], lines: tuple[str, ...]) -> None:
        """Show the leaks of a response for these lines."""
        self._table = table
        self.lines = tuple(n for n in lines if n in table.get("R", {}))
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(280, _ROW * 3 if self.lines else 0)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.lines:
            return
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(9.3))
        most = max(self._table[p][n] for p, _ in _PLANES for n in self.lines)
        room = self.width() - 56 - 92
        for row, (plane, words) in enumerate(_PLANES):
            top = row * _ROW
            painter.setPen(QColor(t.muted))
            painter.drawText(QRectF(0, top, 52, _ROW - 4), Qt.AlignmentFlag.AlignVCenter, words)
            height = (_ROW - 10) / len(self.lines)
            for number, name in enumerate(self.lines):
                length = max(room * self._table[plane][name] / most, 2)
                fill_rect(
                    painter,
                    QRectF(56, top + 3 + number * height, length, max(height - 2, 3)),
                    tag_colour(name),
                    1,
                )
            painter.setPen(QColor(t.text))
            painter.drawText(
                QRectF(self.width() - 92, top, 92, _ROW - 4),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                self.words(plane),
            )

    def words(self, plane: str) -> str:
        """The leak of a plane: the weaker line's answer over the stronger one's."""
        order = sorted(self.lines, key=lambda n: self._table[plane][n])
        if len(order) < 2:
            return ""
        leak = self._table[plane][order[0]] / max(self._table[plane][order[-1]], 1e-12)
        return f"{order[0]} leaks {100 * leak:.0f} %"

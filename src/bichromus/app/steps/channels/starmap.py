"""Star width and elongation over the frame of a stack, drawn: where the stars grow, and which way
they are long.
"""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.measure.field import StarField
from ...theme.look import LOOK, font
from ...widgets.plain import set_tip

_CELLS = (4, 6)
_LARGER = 8.0  # times: how much a difference in width is enlarged
_LONGER = 3.0


class StarMap(QWidget):
    """Ellipses over the frame; a corner says its width in pixels."""

    def __init__(self) -> None:
        super().__init__()
        self._field: StarField | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("star width over the frame")
        LOOK.changed.connect(self.update)

    def show_field(self, field: StarField | None) -> None:
        """Show the stars of a stack over its frame."""
        self._field = field
        self.setVisible(field is not None)
        if field is not None:
            set_tip(
                self,
                f"{field.words()}.\n"
                f"Each sign shows how wide stars are there, differences {_LARGER:.0f} "
                "times enlarged, and which way they are long.\n"
                f"From {field.stars} stars of the whole stack.",
            )
            self.setAccessibleDescription(field.words())
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        if self._field is None:
            return QSize(260, 0)
        height, width = self._field.shape
        return QSize(260, int(np.clip(262 * height / width, 90, 190)))

    def minimumSizeHint(self) -> QSize:
        return QSize(120, self.sizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        field = self._field
        if field is None:
            return
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        height, width = field.shape
        scale = min((self.width() - 2) / width, (self.height() - 2) / height)
        box = QRectF((self.width() - width * scale) / 2, 1, width * scale, height * scale)
        painter.fillRect(box, QColor(t.stage))
        painter.setPen(QPen(QColor(t.line), 1))
        painter.drawRect(box)
        rows, columns = _CELLS
        for row in range(rows):
            for column in range(columns):
                x, y = (column + 0.5) / columns * (width - 1), (row + 0.5) / rows * (height - 1)
                self._sign(painter, QPointF(box.x() + x * scale, box.y() + y * scale), field, x, y)
        painter.setFont(font(9))
        painter.setPen(QColor(t.text))
        for name, value in field.corners.items():
            across = Qt.AlignmentFlag.AlignLeft if "left" in name else Qt.AlignmentFlag.AlignRight
            down = Qt.AlignmentFlag.AlignTop if "upper" in name else Qt.AlignmentFlag.AlignBottom
            painter.drawText(box.adjusted(5, 2, -5, -2), across | down, f"{value:.1f}")
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{field.middle:.1f} px")

    def _sign(self, painter: QPainter, at: QPointF, field: StarField, x: float, y: float) -> None:
        wide = 1 + _LARGER * (field.width_at(x, y) / max(field.middle, 1e-6) - 1)
        long, angle = field.elongation_at(x, y)
        size = float(np.clip(9.0 * wide, 2.5, 24.0))
        stretch = 1 + _LONGER * long
        grey = QColor(LOOK.theme.muted)
        painter.save()
        painter.translate(at)
        painter.rotate(angle)
        painter.setPen(QPen(grey, 1.3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(0, 0), size / 2 * stretch, size / 2 / stretch)
        painter.restore()

"""A box to choose from, with a mark that says so."""

from __future__ import annotations

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox

from ..theme.look import LOOK
from .plain import set_tip


class ChoiceBox(QComboBox):
    """A combo box whose arrow is drawn in the colours of the theme."""

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        set_tip(self, tip)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(LOOK.theme.muted), 1.6))
        x, y = self.width() - 14.0, self.height() / 2
        painter.drawPolyline(QPointF(x - 4, y - 2), QPointF(x, y + 2), QPointF(x + 4, y - 2))

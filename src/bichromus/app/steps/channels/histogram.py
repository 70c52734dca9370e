"""How the values of a channel are spread: the sky, the nebula above it, and where cores are
full.
"""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....workspace.channels.notes import Histogram as SpreadNote
from ....workspace.channels.prepared import Prepared
from ...theme.look import LOOK, font, tag_colour
from ...widgets.plain import set_tip

_FOOT = 14


class Histogram(QWidget):
    """Counts in logarithm over values in asinh, with marks at the sky, the signal and the full
    well.
    """

    def __init__(self) -> None:
        super().__init__()
        self._note: SpreadNote | None = None
        self._marks: list[tuple[float, str]] = []
        self._channel = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(72)
        self.setAccessibleName("spread of values")
        set_tip(
            self,
            "How many pixels have which value: even steps near the sky, ratios above.\n"
            "Counts are shown by their logarithm, so that the faint nebula can be seen.",
        )
        LOOK.changed.connect(self.update)

    def show_channel(self, prepared: Prepared) -> None:
        """Show the values of a channel."""
        self._note, self._channel = prepared.notes.histogram, prepared.channel
        self._marks = [(0.0, "sky")]
        if prepared.measure.signal > 0:
            self._marks.append((prepared.measure.signal, "signal"))
        if prepared.notes.saturation:
            self._marks.append((prepared.notes.saturation, "full"))
        self.setVisible(self._note is not None)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, 72)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        note = self._note
        if note is None:
            return
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        counts = np.log1p(np.array(note.counts, float))
        tall = self.height() - _FOOT
        heights = counts / max(float(counts.max()), 1e-9) * (tall - 3)
        step = self.width() / len(heights)
        line = [QPointF((n + 0.5) * step, tall - h) for n, h in enumerate(heights)]
        painter.setPen(Qt.PenStyle.NoPen)
        fill = tag_colour(self._channel)
        fill.setAlpha(110)
        painter.setBrush(fill)
        painter.drawPolygon(QPolygonF([QPointF(0, tall), *line, QPointF(self.width(), tall)]))
        painter.setFont(font(8.5))
        span = note.high - note.low
        free = 0.0
        for value, words in self._marks:
            x = (float(np.arcsinh(value / note.unit)) - note.low) / span * self.width()
            x = min(x, self.width() - 1.5)
            painter.setPen(QPen(QColor(t.muted), 1))
            painter.drawLine(QLineF(x, 2, x, tall))
            width = painter.fontMetrics().horizontalAdvance(words)
            left = max(min(x - width / 2, self.width() - width), free)
            free = left + width + 6
            painter.setPen(QColor(t.muted))
            painter.drawText(
                QRectF(left, tall, width + 2, _FOOT), Qt.AlignmentFlag.AlignCenter, words
            )

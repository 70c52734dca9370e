"""Is it enough? SNR against hours: what was measured, how it grows, what is held, and where the
goal lies.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.advise.enough import Growth
from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import draw_tag, fill_rect
from ...widgets.plain import set_tip
from ...widgets.text import clock_text, snr_text
from .words import kept_words

_LEFT, _FOOT, _TOP = 42, 20, 6


class GrowthPlot(QWidget):
    """A line for each channel: dot at what is held, ring at the goal, cross where its SNR was
    measured.

    Upward the share of the goal's SNR, along the root of the hours: so SNR grows as a straight
    line, and all goals lie on one level.
    """

    def __init__(self) -> None:
        super().__init__()
        self.growths: tuple[Growth, ...] = ()
        self.chosen: str | None = None
        self.setMinimumHeight(130)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setAccessibleName("SNR against hours")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(760, 190)

    def show_growths(self, growths: Sequence[Growth], chosen: str | None) -> None:
        """Show the curves, one of them chosen."""
        self.growths = tuple(g for g in growths if g.now is not None and g.goal)
        self.chosen = chosen
        self.update()

    def _span(self) -> tuple[float, float]:
        """Hours and share of the goal at the far corner."""
        hours = max([max(g.hours, g.goal_h or 0.0) for g in self.growths], default=1.0) * 1.1
        peak = max([(g.now or 0.0) / (g.goal or 1.0) for g in self.growths], default=1.0)
        return max(hours, 0.5), min(max(peak * 1.08, 1.22), 1.9)

    def _at(self, hours: float, share: float) -> QPointF:
        far, peak = self._span()
        width, height = self.width() - _LEFT - 20, self.height() - _FOOT - _TOP
        return QPointF(
            _LEFT + math.sqrt(max(hours, 0) / far) * width,
            _TOP + height - min(share, peak) / peak * height,
        )

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(9.2))
        if not self.growths:
            painter.setPen(QColor(LOOK.theme.muted))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "The lines appear when stacks are open whose headers tell their hours.",
            )
            return
        self._paint_scales(painter)
        for growth in sorted(self.growths, key=lambda g: g.channel == self.chosen):
            self._paint_line(painter, growth)
        taken = [QRectF(p.x() - 7, p.y() - 7, 14, 14) for g in self.growths for p in self._dots(g)]
        for growth in sorted(self.growths, key=lambda g: -(g.now or 0) / (g.goal or 1)):
            self._paint_marks(painter, growth, taken)

    def _paint_scales(self, painter: QPainter) -> None:
        t = LOOK.theme
        far, peak = self._span()
        for share, words in ((0.5, "50 %"), (1.0, "goal"), (1.5, "150 %")):
            if share > peak:
                continue
            y = self._at(0, share).y()
            painter.setPen(QPen(QColor(t.muted if share == 1 else t.line), 1))
            painter.drawLine(QPointF(_LEFT, y), QPointF(self.width() - 20, y))
            painter.setPen(QColor(t.text if share == 1 else t.muted))
            painter.drawText(QRectF(0, y - 8, _LEFT - 6, 16), Qt.AlignmentFlag.AlignRight, words)
        last = -99.0
        for value in (
            0.5,
            1,
            2,
            4,
            6,
            8,
            10,
            12,
            16,
            20,
            25,
            30,
            40,
            50,
            60,
            80,
            100,
            150,
            200,
            300,
            500,
            1000,
        ):
            x = self._at(value, 0).x()
            if value > far or x - last < 44:
                continue
            last = x
            painter.setPen(QColor(t.muted))
            painter.drawText(
                QRectF(x - 30, self.height() - _FOOT + 3, 60, 16),
                Qt.AlignmentFlag.AlignHCenter,
                f"{value:g} h",
            )

    def _paint_line(self, painter: QPainter, growth: Growth) -> None:
        far, _ = self._span()
        colour = QColor(tag_colour(growth.channel))
        strong = self.chosen in (None, growth.channel)
        colour.setAlpha(255 if strong else 110)
        painter.setClipRect(QRectF(_LEFT, 0, self.width() - _LEFT, self.height() - _FOOT))
        for first, last, style in (
            (0.0, growth.hours, Qt.PenStyle.SolidLine),
            (growth.hours, far, Qt.PenStyle.DotLine),
        ):
            painter.setPen(QPen(colour, 2.2 if strong and self.chosen else 1.6, style))
            ends = [
                self._raw(h, (growth.at(h) or 0.0) / (growth.goal or 1.0)) for h in (first, last)
            ]
            painter.drawLine(*ends)
        painter.setClipping(False)

    def _raw(self, hours: float, share: float) -> QPointF:
        """A point of a line that may run out above."""
        _, peak = self._span()
        height = self.height() - _FOOT - _TOP
        return QPointF(self._at(hours, 0).x(), _TOP + height - share / peak * height)

    def _dots(self, growth: Growth) -> list[QPointF]:
        """Where a channel stands, and its goal: no name may lie on them."""
        now = self._at(growth.hours, (growth.now or 0.0) / (growth.goal or 1.0))
        return [now, self._at(growth.goal_h, 1.0)] if growth.goal_h else [now]

    def _paint_marks(self, painter: QPainter, growth: Growth, taken: list[QRectF]) -> None:
        t, colour = LOOK.theme, tag_colour(growth.channel)
        goal = growth.goal or 1.0
        if growth.goal_h:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colour, 2))
            painter.drawEllipse(self._at(growth.goal_h, 1.0), 6, 6)
        now = self._at(growth.hours, (growth.now or 0.0) / goal)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawEllipse(now, 4.5, 4.5)
        if (
            growth.measured_h
            and growth.snr is not None
            and abs(growth.measured_h - growth.hours) > 0.02
        ):
            at = self._at(growth.measured_h, growth.snr / goal)
            painter.setPen(QPen(QColor(t.strong), 1.4))
            painter.drawLine(at + QPointF(-3.5, -3.5), at + QPointF(3.5, 3.5))
            painter.drawLine(at + QPointF(-3.5, 3.5), at + QPointF(3.5, -3.5))
        self._paint_name(painter, growth, now, taken)

    def _paint_name(
        self, painter: QPainter, growth: Growth, now: QPointF, taken: list[QRectF]
    ) -> None:
        t = LOOK.theme
        painter.setFont(font(9.4, QFont.Weight.DemiBold))
        name = painter.fontMetrics().horizontalAdvance(growth.channel)
        painter.setFont(font(9.2))
        figure = f"SNR {snr_text(growth.now)}"
        wide = name + painter.fontMetrics().horizontalAdvance(figure) + 24
        places = (
            (10, -8),
            (-wide - 10, -8),
            (10, 10),
            (-wide - 10, 10),
            (10, -26),
            (10, 28),
            (-wide - 10, -26),
            (-wide - 10, 28),
            (-wide / 2, -30),
            (-wide / 2, 14),
        )
        boxes = [QRectF(now.x() + dx, now.y() + dy, wide, 16) for dx, dy in places]
        inside = QRectF(_LEFT + 2, 0, self.width() - _LEFT - 4, self.height() - _FOOT)
        words = next(
            (b for b in boxes if inside.contains(b) and not any(b.intersects(o) for o in taken)),
            boxes[0],
        )
        taken.append(QRectF(words))
        fill_rect(painter, words.adjusted(-3, 0, 0, 0), t.panel)
        draw_tag(painter, QRectF(words.left(), words.top() + 2, 4, 12), growth.channel)
        painter.setFont(font(9.4, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(words.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, growth.channel)
        painter.setFont(font(9.2))
        painter.setPen(QColor(t.muted))
        painter.drawText(words.adjusted(14 + name, 0, 4, 0), Qt.AlignmentFlag.AlignVCenter, figure)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self.growths:
            return
        at = event.position()
        near = min(
            self.growths,
            key=lambda g: min(
                _far(at, self._at(h, (g.at(h) or 0) / (g.goal or 1)))
                for h in (g.hours, g.goal_h or g.hours)
            ),
        )
        goal = (
            f"\ngoal {clock_text(near.goal_h)}, SNR {near.goal:.1f}"
            if near.goal_h and near.goal
            else ""
        )
        more = (
            f"\nanother hour tonight: {near.next_hour:+.1f}" if near.next_hour is not None else ""
        )
        set_tip(
            self,
            f"{near.channel}: {kept_words(near)}, SNR {near.now or 0:.1f}{goal}{more}\n"
            "dot: kept, ring: goal, cross: measured, dotted: more hours",
        )


def _far(a: QPointF, b: QPointF) -> float:
    return math.hypot(a.x() - b.x(), a.y() - b.y())

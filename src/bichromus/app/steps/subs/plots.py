"""The group over time: star size, roundness, background, stars, transparency and worth, a click
goes to a sub.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QGridLayout, QSizePolicy, QWidget

from ....workspace.subs.groups import Group, Reviewed
from ...theme.look import LOOK, font
from ...widgets.paint import fill_rect
from ...widgets.plain import set_tip

Value = Callable[[Reviewed], float | None]


@dataclass(frozen=True)
class Figure:
    """One plot: its name, what it shows of a sub, how a value is written, and what a tooltip says
    of it.
    """

    name: str
    value: Value
    text: Callable[[float], str]
    tip: str


def _of(name: str) -> Value:
    return lambda r: getattr(r.measure, name) if r.measure is not None else None


def _size(r: Reviewed) -> float | None:
    if r.measure is None or r.measure.fwhm_px is None:
        return None
    return r.measure.fwhm_px * (r.sub.scale_arcsec or 1.0)


def _round(r: Reviewed) -> float | None:
    return (
        1 - r.measure.ellipticity
        if r.measure is not None and r.measure.ellipticity is not None
        else None
    )


FIGURES = (
    Figure(
        "star size",
        _size,
        lambda v: f"{v:.1f}",
        "FWHM of the stars, arcsec where the header tells the scale",
    ),
    Figure("roundness", _round, lambda v: f"{v:.2f}", "b/a of the stars, 1 is round"),
    Figure("background", _of("background"), lambda v: f"{v:,.0f}", "Level of the sky, counts"),
    Figure("stars found", _of("stars"), lambda v: f"{v:,.0f}", "Stars above 5 sigma"),
    Figure(
        "transparency",
        lambda r: (
            100 * r.grade.transparency if r.grade and r.grade.transparency is not None else None
        ),
        lambda v: f"{v:.0f} %",
        "Light of the same stars against the good subs",
    ),
    Figure(
        "worth",
        lambda r: r.worth,
        lambda v: f"{v:.2f}",
        "(light / (noise × star size))², a typical good sub is 1:\n"
        "its share of the SNR² of the stack",
    ),
)


class TimePlot(QWidget):
    """One figure of all subs: the one in view large, waiting ones amber and larger, rejected ones
    hollow.
    """

    chosen = pyqtSignal(int)

    def __init__(self, figure: Figure) -> None:
        super().__init__()
        self.figure = figure
        self._group: Group | None = None
        self._index = 0
        self._values: list[float | None] = []
        self._span = (0.0, 1.0)
        self.setMinimumHeight(62)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(f"{figure.name} over time")
        set_tip(self, f"{figure.tip}\nA click goes to the sub.")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(240, 68)

    def show_group(self, group: Group | None, index: int) -> None:
        """Show the figures of a group, one sub in view."""
        if group is not self._group:
            self._group = group
            self._values = [self.figure.value(r) for r in group.subs] if group is not None else []
            known = [v for v in self._values if v is not None and math.isfinite(v)]
            low, high = (min(known), max(known)) if known else (0.0, 1.0)
            room = max(high - low, 0.02 * abs(high), 1e-6)
            self._span = (low - 0.12 * room, high + 0.12 * room)
        self._index = index
        self.update()

    def place_of(self, index: int) -> QPointF | None:
        """Where the point of a sub lies; None where it has none."""
        value = self._values[index]
        if value is None or self._group is None:
            return None
        low, high = self._span
        first, last = self._times()
        start = self._group.subs[index].sub.start
        assert start is not None
        x = (start.timestamp() - first) / max(last - first, 1.0)
        return QPointF(
            8 + x * (self.width() - 16), 18 + (high - value) / (high - low) * (self.height() - 24)
        )

    def _times(self) -> tuple[float, float]:
        assert self._group is not None
        starts = [
            r.sub.start.timestamp()
            for r in (self._group.subs[0], self._group.subs[-1])
            if r.sub.start
        ]
        return starts[0], starts[-1]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        fill_rect(painter, QRectF(0, 17, self.width(), self.height() - 20), t.stage, 2)
        painter.setFont(font(9.2))
        painter.setPen(QColor(t.muted))
        painter.drawText(
            QRectF(0, 0, self.width(), 16), Qt.AlignmentFlag.AlignLeft, self.figure.name
        )
        if self._group is None or not self._values:
            return
        here = self._values[self._index] if self._index < len(self._values) else None
        painter.setFont(font(9.4, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(
            QRectF(0, 0, self.width(), 16),
            Qt.AlignmentFlag.AlignRight,
            self.figure.text(here) if here is not None else "–",
        )
        now = self.place_of(self._index) if self._index < len(self._values) else None
        if now is not None:
            painter.setPen(QPen(QColor(t.faint), 1))
            painter.drawLine(QPointF(now.x(), 18), QPointF(now.x(), self.height() - 4))
        for index, r in enumerate(self._group.subs):
            if index != self._index:
                self._dot(painter, index, r, False)
        if now is not None:
            self._dot(painter, self._index, self._group.subs[self._index], True)

    def _dot(self, painter: QPainter, index: int, r: Reviewed, here: bool) -> None:
        t, at = LOOK.theme, self.place_of(index)
        if at is None:
            return
        colour = QColor(t.accent if r.waiting else t.text)
        size = (4.5 if here else 3.2) if r.waiting or here else 2.2
        if r.sub.kept:
            painter.setPen(QPen(QColor(t.strong), 1.2) if here else Qt.PenStyle.NoPen)
            painter.setBrush(colour)
        else:
            painter.setPen(QPen(colour, 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, size, size)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._group is None:
            return
        places = [(n, p) for n in range(len(self._values)) if (p := self.place_of(n)) is not None]
        if places:
            x, y = event.position().x(), event.position().y()
            self.chosen.emit(
                min(places, key=lambda i: (i[1].x() - x) ** 2 + 0.1 * (i[1].y() - y) ** 2)[0]
            )


class Plots(QWidget):
    """All of them, three beside each other."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.plots = [TimePlot(f) for f in FIGURES]
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(4)
        for number, plot in enumerate(self.plots):
            plot.chosen.connect(self.chosen)
            grid.addWidget(plot, number // 3, number % 3)

    def show_group(self, group: Group | None, index: int) -> None:
        """Show the figures of a group, one sub in view."""
        for plot in self.plots:
            plot.show_group(group, index)

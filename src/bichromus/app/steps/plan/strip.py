"""The next fourteen nights as columns of usable hours, dark below, moonlit above, with what each is
for.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.plan.coming import NightUse
from ....core.plan.season import SeasonNight
from ...theme.look import LOOK, font
from ...widgets.paint import draw_tag, fill_rect
from ...widgets.plain import set_tip
from ...widgets.text import clock_text

_BAR, _MOST = 46, 10.0
_USE, _SHOWN = 16, 3
NightUses = dict[dt.date, list[NightUse]]


def uses_by_night(uses: Sequence[NightUse]) -> NightUses:
    """What each night is for, the longest first."""
    out: NightUses = {}
    for use in sorted(uses, key=lambda u: -u.hours):
        out.setdefault(use.date, []).append(use)
    return out


class NightStrip(QWidget):
    """Click a night, or left and right keys; ``chosen`` carries its date."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.nights: tuple[SeasonNight, ...] = ()
        self.uses: NightUses = {}
        self.current = 0
        self.setFixedHeight(self.sizeHint().height())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("the next fourteen nights")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(700, _BAR + 26 + _USE)

    def show_nights(self, nights: tuple[SeasonNight, ...], uses: NightUses) -> None:
        """Show the nights to come."""
        self.nights, self.uses = nights, uses
        self.update()

    def rect_of(self, index: int) -> QRectF:
        """Where a night lies."""
        width = self.width() / max(len(self.nights), 1)
        return QRectF(index * width + 2, 0, width - 4, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, night in enumerate(self.nights):
            box = self.rect_of(index)
            dark, opened = night.open_moonless_hours or 0.0, night.open_hours or 0.0
            bars = QRectF(box.left() + 4, 4, box.width() - 8, _BAR)
            painter.setPen(QPen(QColor(t.faint), 1, Qt.PenStyle.DotLine))
            top = bars.bottom() - bars.height() * min(night.dark_hours / _MOST, 1)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(bars.left(), top, bars.width(), bars.bottom() - top))
            high = bars.height() * min(opened / _MOST, 1)
            low = bars.height() * min(dark / _MOST, 1)
            fill_rect(
                painter, QRectF(bars.left(), bars.bottom() - high, bars.width(), high), t.faint
            )
            fill_rect(painter, QRectF(bars.left(), bars.bottom() - low, bars.width(), low), t.text)
            here = index == self.current
            painter.setFont(font(8.6, QFont.Weight.DemiBold if here else QFont.Weight.Normal))
            painter.setPen(QColor(t.strong if here else t.muted))
            painter.drawText(
                QRectF(box.left(), _BAR + 6, box.width(), 16),
                Qt.AlignmentFlag.AlignCenter,
                f"{night.date.day} {night.date:%b}",
            )
            self._paint_uses(painter, box, self.uses.get(night.date, []))
            if here:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(t.strong), 2 if self.hasFocus() else 1))
                painter.drawRect(box.adjusted(0, 1, 0, -1))

    def _paint_uses(self, painter: QPainter, box: QRectF, uses: list[NightUse]) -> None:
        """Tags of what is shot most, the letters of the first beside them."""
        names = list(dict.fromkeys("+".join(u.channels) for u in uses))[:_SHOWN]
        if not names:
            return
        painter.setFont(font(8))
        metrics = painter.fontMetrics()
        words = list(names)
        while words and sum(metrics.horizontalAdvance(w) + 8 for w in words) > box.width() - 4:
            words.pop()
        wide = sum(metrics.horizontalAdvance(w) + 8 for w in words) + 5 * (len(names) - len(words))
        x, y = box.center().x() - wide / 2, _BAR + 6 + 17
        for number, name in enumerate(names):
            draw_tag(painter, QRectF(x, y, 3, 12), name)
            x += 5
            if number < len(words):
                painter.setPen(QColor(LOOK.theme.text))
                painter.drawText(
                    QRectF(x, y - 2, 80, 16), Qt.AlignmentFlag.AlignVCenter, words[number]
                )
                x += metrics.horizontalAdvance(words[number]) + 3

    def _index_at(self, x: float) -> int | None:
        index = int(x // (self.width() / max(len(self.nights), 1)))
        return index if 0 <= index < len(self.nights) else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        if index is not None:
            n = self.nights[index]
            set_tip(
                self,
                f"{n.date:%A %d %B}: {n.open_moonless_hours or 0:.1f} h dark, "
                f"{(n.open_hours or 0) - (n.open_moonless_hours or 0):.1f} h moonlit\n"
                f"Moon {100 * n.lit:.0f} %, {n.separation or 0:.0f}° away.\n"
                + "".join(_use_words(u) for u in self.uses.get(n.date, []))
                + "Click to plan this night.",
            )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().x()) if event else None
        if index is not None:
            self.chosen.emit(self.nights[index].date.isoformat())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Right: the next night; left: the one before."""
        if (
            event is None
            or not self.nights
            or event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right)
        ):
            super().keyPressEvent(event)
            return
        step = 1 if event.key() == Qt.Key.Key_Right else -1
        self.chosen.emit((self.nights[0].date + dt.timedelta(days=step)).isoformat())


def _use_words(use: NightUse) -> str:
    what = "+".join(use.channels)
    return f"{use.station}: {what} of {use.target}, {clock_text(use.hours)} if it is clear\n"

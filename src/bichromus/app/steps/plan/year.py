"""A year at a glance: every night as a thin column of usable hours, the best months in words."""

from __future__ import annotations

from collections import defaultdict

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QDialog, QVBoxLayout, QWidget

from ....core.plan.season import SeasonNight
from ...theme.look import LOOK, font
from ...widgets.fold import label
from ...widgets.paint import fill_rect
from ...widgets.plain import set_tip


def best_months(nights: list[SeasonNight], most: int = 3) -> list[tuple[str, float]]:
    """The months with the most dark usable hours, in the order of the calendar."""
    sums: dict[tuple[int, int], float] = defaultdict(float)
    for night in nights:
        sums[(night.date.year, night.date.month)] += night.open_moonless_hours or 0.0
    best = sorted(sums, key=lambda m: -sums[m])[:most]
    names = {(n.date.year, n.date.month): f"{n.date:%B}" for n in nights}
    return [(names[m], sums[m]) for m in sorted(best) if sums[m] > 0]


class YearBars(QWidget):
    """Dark hours bright, moonlit hours grey; a click plans that night."""

    chosen = pyqtSignal(str)

    def __init__(self, nights: list[SeasonNight]) -> None:
        super().__init__()
        self.nights = nights
        self.setMouseTracking(True)
        self.setAccessibleName("usable hours of a year")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(760, 210)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setFont(font(8.8))
        width = self.width() / max(len(self.nights), 1)
        high = self.height() - 22
        month = 0
        for number, night in enumerate(self.nights):
            x = number * width
            opened, dark = night.open_hours or 0.0, night.open_moonless_hours or 0.0
            for hours, colour in ((night.dark_hours, t.raised), (opened, t.faint), (dark, t.text)):
                tall = high * min(hours / 14, 1)
                fill_rect(painter, QRectF(x, high - tall, width + 0.4, tall), colour)
            if night.date.month != month:
                month = night.date.month
                # a month that has only its last days here would run into the next name
                if x < self.width() - 24 and (number or night.date.day < 12):
                    painter.setPen(QColor(t.muted))
                    painter.drawText(
                        QRectF(x + 3, high + 4, 60, 16),
                        Qt.AlignmentFlag.AlignLeft,
                        f"{night.date:%b}",
                    )

    def _at(self, x: float) -> SeasonNight | None:
        index = int(x / max(self.width(), 1) * len(self.nights))
        return self.nights[index] if 0 <= index < len(self.nights) else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        night = self._at(event.position().x()) if event else None
        if night is not None:
            set_tip(
                self,
                f"{night.date:%d %B %Y}: {night.open_moonless_hours or 0:.1f} h dark and "
                f"usable, Moon {100 * night.lit:.0f} %",
            )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        night = self._at(event.position().x()) if event else None
        if night is not None:
            self.chosen.emit(night.date.isoformat())


class YearDialog(QDialog):
    """The bars with the best months above them."""

    def __init__(self, nights: list[SeasonNight], target: str, site: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{target} at {site}, a year")
        best = best_months(nights)
        words = ", ".join(f"{name} ({hours:.0f} h dark)" for name, hours in best)
        none = f"{target} has no dark hour at {site} in this year."
        self.said = label(f"Best months: {words}." if best else none, "head")
        self.bars = YearBars(nights)
        column = QVBoxLayout(self)
        column.addWidget(self.said)
        column.addWidget(self.bars, 1)
        column.addWidget(
            label(
                "Bright: dark and usable. Grey: under the Moon. Behind: all dark hours "
                "of the night.",
                "muted",
            )
        )

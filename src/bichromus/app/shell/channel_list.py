"""The ledger: a card for each channel, in every step."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...core.model.channel import LONG_NAMES
from ..theme.look import LOOK, font, tag_colour
from ..widgets.paint import draw_tag, fill_rect
from ..widgets.plain import set_tip

WIDTH = 172
_CARD = 74


@dataclass(frozen=True)
class Card:
    """What a card says: ``share`` fills its bar (None: no bar), the last row is the step's own
    figure.
    """

    channel: str
    hours: str
    snr: str
    share: float | None
    label: str
    figure: str
    key: str = ""
    tip: str = ""
    wants: bool = False
    first: str = "SNR"


class ChannelList(QWidget):
    """Click or up and down keys select a channel; ``chosen`` carries its name."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.cards: list[Card] = []
        self.current: str | None = None
        self.setFixedWidth(WIDTH)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("ledger of channels")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(WIDTH, _CARD * max(len(self.cards), 1) + 20)

    def show_cards(self, cards: list[Card], current: str | None) -> None:
        """Show these cards, one of them chosen."""
        self.cards, self.current = cards, current
        self.setMinimumHeight(self.sizeHint().height() if cards else 0)
        self.update()

    def card_rect(self, index: int) -> QRectF:
        """Where a card lies."""
        return QRectF(0, 10 + index * _CARD, self.width(), _CARD)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.cards:
            painter.setPen(QColor(LOOK.theme.muted))
            painter.setFont(font(9.5))
            painter.drawText(
                QRectF(14, 16, self.width() - 24, 80),
                Qt.TextFlag.TextWordWrap,
                "Channels appear here when stacks are open.",
            )
        for index, card in enumerate(self.cards):
            self._paint_card(painter, self.card_rect(index), card)

    def _paint_card(self, painter: QPainter, box: QRectF, card: Card) -> None:
        t = LOOK.theme
        if card.channel == self.current:
            fill_rect(painter, box, t.raised)
        draw_tag(painter, QRectF(12, box.top() + 9, 5, box.height() - 18), card.channel)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        row = QRectF(28, box.top() + 7, box.width() - 42, 20)
        painter.setFont(font(11, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(row, Qt.AlignmentFlag.AlignVCenter, card.channel)
        painter.setFont(font(9.4))
        painter.setPen(QColor(t.muted))
        painter.drawText(row, right, card.hours)
        rail = QRectF(28, box.top() + 30, box.width() - 42, 3)
        if card.share is not None:
            fill_rect(painter, rail, t.line, 1.5)
            fill_rect(
                painter,
                QRectF(rail.left(), rail.top(), rail.width() * min(card.share, 1), 3),
                tag_colour(card.channel),
                1.5,
            )
        for number, (label, figure) in enumerate(
            ((card.first, card.snr), (card.label, card.figure))
        ):
            line = QRectF(28, box.top() + 36 + 16 * number, box.width() - 42, 16)
            painter.setFont(font(9.2))
            painter.setPen(QColor(t.muted))
            painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, label)
            painter.setFont(font(9.2, QFont.Weight.DemiBold))
            painter.setPen(QColor(t.accent if number == 0 and card.wants else t.strong))
            painter.drawText(line, right, figure)

    def _index_at(self, y: float) -> int | None:
        index = int((y - 10) // _CARD)
        return index if 0 <= index < len(self.cards) else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().y()) if event else None
        if index is None:
            set_tip(self, "")
            return
        card = self.cards[index]
        hold = f"\nHold {card.key} to see it alone." if card.key else ""
        set_tip(
            self, f"{card.channel}, {LONG_NAMES.get(card.channel, 'dual band')}\n{card.tip}{hold}"
        )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().y()) if event else None
        if index is not None:
            self.chosen.emit(self.cards[index].channel)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        names = [c.channel for c in self.cards]
        if event is None or not names or event.key() not in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            super().keyPressEvent(event)
            return
        here = names.index(self.current) if self.current in names else 0
        step = 1 if event.key() == Qt.Key.Key_Down else -1
        self.chosen.emit(names[min(max(here + step, 0), len(names) - 1)])

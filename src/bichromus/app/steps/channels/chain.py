"""The chain of a channel: its steps one under the other, each with its result, its switch and its
controls.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ....workspace.channels.steps import Link, Look
from ...theme.look import LOOK
from ...widgets.fold import Fold, button, label

_GUTTER = 22
_TIPS = {
    "extract": "Lines out of the planes of a colour camera, each leak taken out",
    "align": "How the stacks lie on the common grid",
    "gradient": "The slope of the sky, through tiles without stars and nebula",
    "pool": "All origins of this channel in one, each weighted by (flux / noise)²",
    "continuum": "The starlight and dust that "
    "shine through a line's filter, told from a broadband channel",
    "stars": "The stars as a layer of their own, and the channel without them",
}


class LinkRow(QWidget):
    """One step: a ring on the chain, its title, its result in a line, and a switch where there is a
    choice.
    """

    chosen = pyqtSignal(str)
    switched = pyqtSignal(str, bool)

    def __init__(self, link: Link) -> None:
        super().__init__()
        self.link = link
        self.first = self.last = self.open = False
        self.title = QPushButton(link.title)
        self.title.setProperty("role", "fold")
        self.title.setAccessibleName(f"step {link.title}")
        self.title.clicked.connect(lambda: self.chosen.emit(self.link.id))
        self.switch = QCheckBox()
        self.switch.clicked.connect(lambda on: self.switched.emit(self.link.id, bool(on)))
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 0, 0)
        top.addWidget(self.title)
        top.addStretch(1)
        top.addWidget(self.switch)
        self.words = label("", "muted", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(_GUTTER, 3, 0, 5)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.words)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        LOOK.changed.connect(self.update)

    def show_link(self, link: Link, first: bool, last: bool, opened: bool) -> None:
        self.link, self.first, self.last, self.open = link, first, last, opened
        self.words.setText(link.words)
        self.words.setProperty("role", "wants" if link.wants else "muted")
        style = self.words.style()
        if style is not None:
            style.polish(self.words)
        tip = (
            f"{_TIPS[link.id]}.\n"
            f"{'Close' if opened else 'Open'} its controls (J, Shift+J step through the chain)."
        )
        self.setToolTip(tip)
        self.title.setToolTip(tip)
        self.switch.setVisible(link.on is not None)
        self.switch.setChecked(bool(link.on))
        self.switch.setAccessibleName(f"{link.title} on")
        self.switch.setToolTip(
            f"Switch this step {'off' if link.on else 'on'} (I);\n"
            "only what lies below it is done again"
        )
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.chosen.emit(self.link.id)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = QPointF(7.5, 14.5)
        painter.setPen(QPen(QColor(t.faint), 1.4))
        if not self.first:
            painter.drawLine(QPointF(middle.x(), 0), QPointF(middle.x(), middle.y() - 5))
        if not self.last or self.open:
            painter.drawLine(
                QPointF(middle.x(), middle.y() + 5), QPointF(middle.x(), self.height())
            )
        colour = QColor(t.accent if self.link.wants else t.strong if self.open else t.muted)
        painter.setPen(QPen(colour, 1.6))
        painter.setBrush(colour if self.link.on is not False else QColor(t.panel))
        painter.drawEllipse(middle, 4.0, 4.0)
        if self.open:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(t.strong))
            painter.drawRoundedRect(QRectF(0, 4, 2, self.height() - 8), 1, 1)


class LookBar(QWidget):
    """What of the opened step is shown on the stage."""

    looked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.row = QVBoxLayout(self)
        self.row.setContentsMargins(_GUTTER, 2, 0, 2)
        self.row.setSpacing(2)
        self._looks: list[tuple[str, Look | None]] = []
        self._buttons: list[QPushButton] = []

    def show_looks(self, looks: list[tuple[str, Look | None]], now: Look | None) -> None:
        """Words and what they show; None is the channel itself."""
        if looks != self._looks:
            self._looks = looks
            for old in self._buttons:
                self.row.removeWidget(old)
                old.hide()
                old.deleteLater()
            self._buttons = []
            for words, look in looks:
                made = button(
                    f"show {words}", f"Show {words} on the stage (V goes on to the next)", "choice"
                )
                made.setCheckable(True)
                made.clicked.connect(lambda _on, v=look: self.looked.emit(v))
                self.row.addWidget(made)
                self._buttons.append(made)
        for made, (_, look) in zip(self._buttons, looks, strict=True):
            made.setChecked(look == now)
        self.setVisible(len(looks) > 1)


class ChainFold(Fold):
    """The chain of the selected channel. ``opened`` tells the step that is open, ``switched`` a
    switch, ``looked`` what is to be shown (a Look, or None for the channel itself).
    """

    opened = pyqtSignal(str)
    switched = pyqtSignal(str, bool)
    looked = pyqtSignal(object)

    def __init__(self, panels: dict[str, QWidget]) -> None:
        super().__init__("Channel")
        self.rows: dict[str, LinkRow] = {}
        self.panels = panels
        self.current = ""
        self.looks = LookBar()
        self.looks.looked.connect(self.looked)
        self.body.setSpacing(0)
        for panel in panels.values():
            panel.hide()

    def show_chain(self, links: list[Link], now: Look | None) -> None:
        """Show the steps of a channel; ``now`` is what is on the stage of the open one."""
        ids = [link.id for link in links]
        if list(self.rows) != ids:
            self._rebuild(links)
        if self.current not in ids:
            self.current = ""
        for number, link in enumerate(links):
            self.rows[link.id].show_link(
                link, number == 0, number == len(links) - 1, link.id == self.current
            )
        for name, panel in self.panels.items():
            panel.setVisible(name == self.current and name in ids)
        here = next((link for link in links if link.id == self.current), None)
        self.looks.setVisible(False)
        if here is not None:
            self.body.removeWidget(self.looks)
            self.body.insertWidget(self.body.indexOf(self.panels[here.id]), self.looks)
            self.looks.show_looks([("the channel", None), *here.looks] if here.looks else [], now)

    def _rebuild(self, links: list[Link]) -> None:
        for row in self.rows.values():
            self.body.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.rows = {}
        for place, link in enumerate(links):
            row = LinkRow(link)
            row.chosen.connect(self.toggle)
            row.switched.connect(self.switched)
            self.rows[link.id] = row
            self.body.insertWidget(2 * place, row)
            panel = self.panels[link.id]
            self.body.removeWidget(panel)
            self.body.insertWidget(2 * place + 1, panel)

    def toggle(self, link: str) -> None:
        """Open the controls of a step, or close them."""
        self.current = "" if link == self.current else link
        self.opened.emit(self.current)

    def step(self, by: int) -> None:
        """Open the next step of the chain, or the one before."""
        ids = list(self.rows)
        if ids:
            here = ids.index(self.current) if self.current in ids else (-1 if by > 0 else 0)
            self.current = ids[(here + by) % len(ids)]
            self.opened.emit(self.current)

    def flip(self) -> None:
        """Switch the open step on or off."""
        row = self.rows.get(self.current)
        if row is not None and row.link.on is not None:
            self.switched.emit(self.current, not row.link.on)

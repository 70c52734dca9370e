"""The chain of a channel: its steps one under the other, each with its result, its switch and its
controls.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ....workspace.channels.steps import ChainStep, Shown
from ...theme.look import LOOK
from ...widgets.fold import Fold, button, label, set_role
from ...widgets.plain import set_tip

_GUTTER = 22


class StepRow(QWidget):
    """One step: a ring on the chain, its title, its result in a line, and a switch where there is a
    choice.
    """

    chosen = pyqtSignal(str)
    switched = pyqtSignal(str, bool)

    def __init__(self, step: ChainStep) -> None:
        super().__init__()
        self.step = step
        self.first = self.last = self.open = False
        self.title = QPushButton(step.title)
        self.title.setProperty("role", "fold")
        self.title.setAccessibleName(f"step {step.title}")
        self.title.clicked.connect(lambda: self.chosen.emit(self.step.id))
        self.switch = QCheckBox()
        self.switch.clicked.connect(lambda on: self.switched.emit(self.step.id, bool(on)))
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

    def show_step(self, step: ChainStep, first: bool, last: bool, opened: bool) -> None:
        """Show a step, and whether its controls are open."""
        self.step, self.first, self.last, self.open = step, first, last, opened
        self.words.setText(step.words)
        set_role(self.words, "wants" if step.wants else "muted")
        tip = (
            f"{step.tip}.\n"
            f"{'Close' if opened else 'Open'} its controls (J, Shift+J step through the chain)."
        )
        set_tip(self, tip)
        set_tip(self.title, tip)
        self.switch.setVisible(step.on is not None)
        self.switch.setChecked(bool(step.on))
        self.switch.setAccessibleName(f"{step.title} on")
        set_tip(
            self.switch,
            f"Switch this step {'off' if step.on else 'on'} (I);\n"
            "only what lies below it is done again",
        )
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.chosen.emit(self.step.id)

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
        colour = QColor(t.accent if self.step.wants else t.strong if self.open else t.muted)
        painter.setPen(QPen(colour, 1.6))
        painter.setBrush(colour if self.step.on is not False else QColor(t.panel))
        painter.drawEllipse(middle, 4.0, 4.0)
        if self.open:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(t.strong))
            painter.drawRoundedRect(QRectF(0, 4, 2, self.height() - 8), 1, 1)


class ViewBar(QWidget):
    """What of the opened step is shown on the stage."""

    viewed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.row = QVBoxLayout(self)
        self.row.setContentsMargins(_GUTTER, 2, 0, 2)
        self.row.setSpacing(2)
        self._views: list[tuple[str, Shown | None]] = []
        self._buttons: list[QPushButton] = []

    @property
    def words(self) -> list[str]:
        """What can be shown, in words."""
        return [words for words, _ in self._views]

    def show_views(self, views: list[tuple[str, Shown | None]], now: Shown | None) -> None:
        """Words and what they show; None is the channel itself."""
        if views != self._views:
            self._views = views
            for old in self._buttons:
                self.row.removeWidget(old)
                old.hide()
                old.deleteLater()
            self._buttons = []
            for words, shown in views:
                made = button(
                    f"show {words}", f"Show {words} on the stage (V goes on to the next)", "choice"
                )
                made.setCheckable(True)
                made.clicked.connect(lambda _on, v=shown: self.viewed.emit(v))
                self.row.addWidget(made)
                self._buttons.append(made)
        for made, (_, shown) in zip(self._buttons, views, strict=True):
            made.setChecked(shown == now)
        self.setVisible(len(views) > 1)


class ChainFold(Fold):
    """The chain of the selected channel. ``opened`` tells the step that is open, ``switched`` a
    switch, ``viewed`` what is to be shown (a Shown, or None for the channel itself).
    """

    opened = pyqtSignal(str)
    switched = pyqtSignal(str, bool)
    viewed = pyqtSignal(object)

    def __init__(self, panels: dict[str, QWidget]) -> None:
        super().__init__("Channel")
        self.rows: dict[str, StepRow] = {}
        self.panels = panels
        self.current = ""
        self.views = ViewBar()
        self.views.viewed.connect(self.viewed)
        self.body.setSpacing(0)
        for panel in panels.values():
            panel.hide()

    def show_chain(self, steps: list[ChainStep], now: Shown | None) -> None:
        """Show the steps of a channel; ``now`` is what is on the stage of the open one."""
        ids = [step.id for step in steps]
        if list(self.rows) != ids:
            self._rebuild(steps)
        if self.current not in ids:
            self.current = ""
        for number, step in enumerate(steps):
            self.rows[step.id].show_step(
                step, number == 0, number == len(steps) - 1, step.id == self.current
            )
        for name, panel in self.panels.items():
            panel.setVisible(name == self.current and name in ids)
        here = next((step for step in steps if step.id == self.current), None)
        self.views.setVisible(False)
        if here is not None:
            self.body.removeWidget(self.views)
            self.body.insertWidget(self.body.indexOf(self.rows[here.id]) + 1, self.views)
            self.views.show_views([("the channel", None), *here.views] if here.views else [], now)

    def _rebuild(self, steps: list[ChainStep]) -> None:
        for row in self.rows.values():
            self.body.removeWidget(row)
            row.hide()
            row.deleteLater()
        for panel in self.panels.values():
            self.body.removeWidget(panel)
        self.rows = {}
        place = 0
        for step in steps:
            row = StepRow(step)
            row.chosen.connect(self.toggle)
            row.switched.connect(self.switched)
            self.rows[step.id] = row
            for widget in (row, self.panels.get(step.id)):
                if widget is not None:
                    self.body.insertWidget(place, widget)
                    place += 1

    def toggle(self, step: str) -> None:
        """Open the controls of a step, or close them."""
        self.current = "" if step == self.current else step
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
        if row is not None and row.step.on is not None:
            self.switched.emit(self.current, not row.step.on)

"""What every step has: a shelf under the picture, an inspector beside it, and what it shows on the
stage.
"""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from ...core.advise import Need
from ...workspace.project.folders import Settings
from ...workspace.session import Session
from ..bridge import Bridge
from ..canvas import Canvas
from ..shell.ledger import Card
from ..shell.route import State
from ..widgets.fold import Fold, rule
from ..widgets.later import Pause


@dataclass(frozen=True)
class Desk:
    """What a step works with."""

    session: Session
    bridge: Bridge
    canvas: Canvas
    window: QWidget
    settings: Settings


class Step(QObject):
    """Subclasses fill ``inspector`` and, where they have one, ``shelf``."""

    id = ""
    title = ""
    tip = ""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.window)
        self.desk = desk
        self.session = desk.session
        self.shelf: QWidget | None = None
        self.stage: QWidget | None = None  # in place of the picture
        self.first: QWidget | None = (
            None  # what has the keys when the step begins; else the picture
        )
        self.inspector = Inspector()
        self.active = False

    def enter(self) -> None:
        """The step comes on the stage."""
        self.active = True

    def leave(self) -> None:
        self.active = False

    def finish(self) -> None:
        """End the gesture in hand, so that it can be undone."""
        for part in (self.inspector, self.shelf, self.stage):
            for pause in part.findChildren(Pause) if part is not None else ():
                pause.finish()

    def select(self, channel: str) -> None:
        """The person chose a channel in the ledger."""

    def names(self) -> set[str]:
        """Channels of the step beside those that are prepared."""
        return set()

    def card(self, channel: str, key: str) -> Card | None:
        """The step's own card of a channel; None: the usual one."""
        return None

    def held_hours(self, channel: str) -> float | None:
        """Hours on a channel's card, where they are others than those of its stack."""
        return None

    def figure(self, channel: str) -> tuple[str, str]:
        """The step's own row on a channel's card."""
        raise NotImplementedError

    def station(self) -> tuple[State, int]:
        """State on the route, and how many things want a decision."""
        raise NotImplementedError

    @property
    def needs(self) -> dict[str, Need]:
        return {n.channel: n for n in self.session.needs}


class Inspector(QScrollArea):
    """Folds one under the other, 312 pixels wide."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(312)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        inside = QWidget()
        self._column = QVBoxLayout(inside)
        self._column.setContentsMargins(0, 2, 0, 2)
        self._column.setSpacing(0)
        self._column.addStretch(1)
        self.setWidget(inside)

    def add(self, fold: Fold) -> Fold:
        """Add a fold at the foot, with a line above it."""
        place = self._column.count() - 1
        if place:
            self._column.insertWidget(place, rule())
            place += 1
        self._column.insertWidget(place, fold)
        return fold

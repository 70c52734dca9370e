"""What every step has: a panel under the picture, an inspector beside it, and what it shows on the
stage.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from ...core.advise import Need
from ...workspace.library.settings import Settings
from ...workspace.session import Session
from ..bridge import Bridge
from ..canvas import Canvas
from ..command import Command
from ..shell.channel_list import Card
from ..shell.route import StepState
from ..widgets.fold import Fold, rule
from ..widgets.later import Pause


@dataclass(frozen=True)
class WindowActions:
    """What a step may ask of its window: go to a step by its id, choose stacks to open."""

    go: Callable[[str], None]
    choose_files: Callable[[], None]


@dataclass(frozen=True)
class StepContext:
    """What a step works with."""

    session: Session
    bridge: Bridge
    canvas: Canvas
    window: QWidget
    settings: Settings
    actions: WindowActions


class Step(QObject):
    """Subclasses fill ``inspector`` and, where they have one, ``bottom_panel``. ``place`` is where
    it stands on the route; ``topic`` names the advice that is shown, the step's own id where empty.
    """

    id = ""
    title = ""
    tip = ""
    place = 100
    topic = ""

    def __init__(self, context: StepContext) -> None:
        super().__init__(context.window)
        self.context = context
        self.session = context.session
        self.bottom_panel: QWidget | None = None
        self.stage: QWidget | None = None  # in place of the picture
        self.first: QWidget | None = (
            None  # what has the keys when the step begins; else the picture
        )
        self.inspector = Inspector()
        self.active = False

    @property
    def canvas(self) -> Canvas:
        """What zooms in this step."""
        return self.context.canvas

    def commands(self) -> list[Command]:
        """What can be done in this step, beside going to it."""
        return []

    def when_active(self, action: Callable[..., object], *values: object) -> Callable[[], object]:
        """An action that is done only while this step is in view: its key may mean something else
        elsewhere.
        """
        return lambda: action(*values) if self.active else None

    def here(self, action: Callable[..., object], *values: object) -> Callable[[], object]:
        """An action that goes to this step first."""

        def run() -> object:
            self.context.actions.go(self.id)
            return action(*values)

        return run

    def enter(self) -> None:
        """The step comes on the stage."""
        self.active = True

    def leave(self) -> None:
        """Another step comes on the stage."""
        self.active = False

    def finish(self) -> None:
        """End the gesture in hand, so that it can be undone."""
        for part in (self.inspector, self.bottom_panel, self.stage):
            for pause in part.findChildren(Pause) if part is not None else ():
                pause.finish()

    def take_files(self, files: Sequence[Path]) -> bool:
        """Files were dropped: whether the step has taken them; else they are opened as stacks."""
        return False

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
        """The step's own row on a channel's card: its name and its value."""
        return "", ""

    def status(self) -> tuple[StepState, int]:
        """State on the route, and how many things want a decision."""
        return "empty", 0

    @property
    def needs(self) -> dict[str, Need]:
        """What channels lack for full colour, by name."""
        return {n.channel: n for n in self.session.blend.snapshot.needs}


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
            line = rule()
            fold.shown.connect(line.setVisible)
            self._column.insertWidget(place, line)
            place += 1
        self._column.insertWidget(place, fold)
        return fold

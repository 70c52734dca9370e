"""Which broadband channel tells the continuum of a line."""

from __future__ import annotations

from .....core.blend.inputs import BROAD
from .....workspace.channels import commands
from .....workspace.channels.cleaning.continuum import STEP
from .....workspace.channels.prepared import Prepared
from .....workspace.session import Session
from ....widgets.choice import ChoiceBox
from ....widgets.fold import label
from .base import Panel


class ContinuumPanel(Panel):
    """Which broadband channel, and its share."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.broad = ChoiceBox(
            "broadband channel",
            "The channel whose share is taken off,\nso that only the line is left",
        )
        self.broad.activated.connect(
            lambda i: self.do(commands.set_cleaning(STEP.id, self.channel, self._names[i]))
        )
        self.why = label(
            "Stars hold no line: their brightness in both tells the share.", "muted", wrap=True
        )
        self.column.addWidget(self.broad)
        self.column.addWidget(self.why)
        self._names: list[str] = []

    def refresh(self, prepared: Prepared) -> None:
        chosen = self.channels.chosen
        self._names = [n for n in BROAD.get(prepared.channel, ()) if n in chosen]
        self.broad.clear()
        self.broad.addItems([f"told from {n}" for n in self._names])
        now = self.wanted.cleaning.get(STEP.id, {}).get(prepared.channel)
        if now in self._names:
            self.broad.setCurrentIndex(self._names.index(str(now)))
        self.broad.setVisible(now is not None)

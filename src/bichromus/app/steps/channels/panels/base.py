"""What the controls of every step of the chain share."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from .....workspace.channels.build import Channels
from .....workspace.channels.prepared import Prepared
from .....workspace.project.document import Command
from .....workspace.project.state import PreparationState
from .....workspace.session import Session


class Panel(QWidget):
    """Under the row of its step."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.prepared: Prepared | None = None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(22, 0, 0, 10)
        self.column.setSpacing(4)
        self.setMaximumWidth(282)

    def show_channel(self, prepared: Prepared) -> None:
        """Show what the step did to a channel."""
        self.prepared = prepared
        self.refresh(prepared)

    def refresh(self, prepared: Prepared) -> None:
        """Bring the controls up to the channel and the state."""
        raise NotImplementedError

    def do(self, command: Command) -> None:
        """A gesture of the person."""
        self.session.do(command)

    @property
    def channels(self) -> Channels:
        """The channels as they were prepared last."""
        return self.session.channels.snapshot

    @property
    def wanted(self) -> PreparationState:
        """What is wanted of them."""
        return self.session.state.preparation

    @property
    def channel(self) -> str:
        """The channel that is shown; empty for none."""
        return self.prepared.channel if self.prepared else ""

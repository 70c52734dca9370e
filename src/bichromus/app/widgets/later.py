"""Work that may wait a moment: for the picture that comes first, or for the end of a gesture."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtCore import QObject, QTimer

SETTLE_MS: Final = 350
"""A pause of this length ends a gesture of keys or wheel, so that it is one entry of the history.
"""


class Later(QTimer):
    """Runs ``work`` once, a moment after the first of many calls of ``ask``; the next calls join
    it.
    """

    def __init__(self, parent: QObject, work: Callable[[], None], ms: int = 70) -> None:
        super().__init__(parent)
        self.setSingleShot(True)
        self.setInterval(ms)
        self.timeout.connect(work)

    def ask(self) -> None:
        """Do it soon, once."""
        if not self.isActive():
            self.start()


class Pause(Later):
    """Runs ``work`` once, a pause after the last of many calls of ``ask``."""

    def __init__(self, parent: QObject, work: Callable[[], None], ms: int = SETTLE_MS) -> None:
        super().__init__(parent, work, ms)

    def ask(self) -> None:
        """Do it soon, once."""
        self.start()

    def finish(self) -> None:
        """Run it now if it is waited for."""
        if self.isActive():
            self.stop()
            self.timeout.emit()

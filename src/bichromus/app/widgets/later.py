"""Work that may wait a moment, so that the picture comes first."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer


class Later(QTimer):
    """Runs ``work`` once, a moment after the first of many calls of ``ask``; the next calls join it."""

    def __init__(self, parent: QObject, work: Callable[[], None], ms: int = 70) -> None:
        super().__init__(parent)
        self.setSingleShot(True)
        self.setInterval(ms)
        self.timeout.connect(work)

    def ask(self) -> None:
        if not self.isActive():
            self.start()

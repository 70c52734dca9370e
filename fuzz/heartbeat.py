"""How long the interface thread is kept from its events: processor time of each, the worst ones
with what they were for.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Final

from PyQt6.QtCore import QEvent, QObject
from PyQt6.QtGui import QShortcutEvent
from PyQt6.QtWidgets import QApplication

LIMIT_MS: Final = 100.0
_KEPT: Final = 12


@dataclass(frozen=True, order=True)
class Stall:
    """Processor time of one event, who got it, and the gesture before it."""

    ms: float
    event: str
    receiver: str
    after: str = ""


class Heartbeat(QApplication):
    """An application that times what it hands out. ``gesture`` names what is being done."""

    def __init__(self, arguments: list[str]) -> None:
        super().__init__(arguments)
        self.gesture = ""
        self.events = 0
        self.worst: list[Stall] = []
        self._depth = 0
        self._floor = 1.0

    def notify(self, receiver: QObject | None, event: QEvent | None) -> bool:
        """One event to its receiver; one within another counts with the outer one."""
        self._depth += 1
        begun = time.thread_time()
        try:
            return super().notify(receiver, event)
        finally:
            self._depth -= 1
            if self._depth == 0:
                self.events += 1
                spent = 1000 * (time.thread_time() - begun)
                if spent > self._floor:
                    self._keep(spent, receiver, event)

    def _keep(self, spent: float, receiver: QObject | None, event: QEvent | None) -> None:
        kind = event.type().name if event is not None else ""
        if isinstance(event, QShortcutEvent):
            kind = f"{kind} {event.key().toString()}"
        name = getattr(receiver, "accessibleName", str)() or getattr(receiver, "text", str)()
        whom = f"{type(receiver).__name__} {name!r}"
        self.worst.append(Stall(spent, kind, whom, self.gesture))
        self.worst = sorted(self.worst, reverse=True)[:_KEPT]
        if len(self.worst) == _KEPT:
            self._floor = self.worst[-1].ms


def told(worst: list[Stall], count: int = 6) -> str:
    """The worst ones, a line each."""
    lines = [f"  {s.ms:6.0f} ms  {s.event} to {s.receiver}  {s.after}" for s in worst[:count]]
    return "\n".join(lines)

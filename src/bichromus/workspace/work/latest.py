"""Previews, of which only the newest request of each kind counts: a line of what is looked at, and
one beside it of what is read and reckoned.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Sequence
from typing import Final

from psygnal import Signal

from .jobs import STOP_S
from .tell import tell

FIRST: Final[tuple[str, ...]] = ("view", "recipe")
"""Kinds that go before all others: what the eye waits for."""
ASIDE: Final[frozenset[str]] = frozenset(
    {"log", "log pick", "calibration", "positions", "review", "watch"}
    | {"plan", "outlook", "year", "month", "compiler"}
)
"""Kinds that no picture waits for, and that wait for none."""


class Latest:
    """Two workers that always do the newest request of each kind and forget the ones it overtook:
    one does those ``aside``, one all others in turn, the ``first`` before them.

    An error in one request is told by ``failed`` and does not stop its worker.
    """

    failed = Signal(str, Exception)

    def __init__(
        self,
        name: str = "previews",
        first: Sequence[str] = FIRST,
        aside: Collection[str] = ASIDE,
    ) -> None:
        self._first, self._aside = tuple(first), frozenset(aside)
        self._waiting: dict[str, Callable[[], None]] = {}
        self._wake = threading.Condition()
        self._open = True
        self._busy = 0
        self._held_until = 0.0
        self._threads = [
            threading.Thread(target=self._run, args=(aside,), name=called, daemon=True)
            for called, aside in ((name, False), (f"{name} aside", True))
        ]
        for thread in self._threads:
            thread.start()

    @property
    def busy(self) -> bool:
        """Whether a request is in hand or waits."""
        with self._wake:
            return bool(self._busy or self._waiting)

    def request(self, kind: str, work: Callable[[], None]) -> None:
        """Replace the waiting request of this kind. Once stopped it is forgotten."""
        with self._wake:
            if self._open:
                self._waiting.pop(kind, None)
                self._waiting[kind] = work
                self._wake.notify_all()

    def hold_aside(self, seconds: float) -> None:
        """Begin nothing aside for so long, or until it is let go: the picture has both cores."""
        with self._wake:
            self._held_until = time.monotonic() + seconds

    def let_aside_go(self) -> None:
        """Begin what was held."""
        with self._wake:
            self._held_until = 0.0
            self._wake.notify_all()

    def forget(self, beginning: str) -> None:
        """Drop the waiting requests whose kinds begin so."""
        with self._wake:
            for kind in [k for k in self._waiting if k.startswith(beginning)]:
                del self._waiting[kind]

    def stop(self) -> None:
        """Drop what waits and end the threads; a request in hand is left after a moment."""
        with self._wake:
            self._open = False
            self._waiting.clear()
            self._wake.notify_all()
        end = time.monotonic() + STOP_S
        for thread in self._threads:
            if thread is not threading.current_thread():
                thread.join(timeout=max(end - time.monotonic(), 0))

    def _run(self, aside: bool) -> None:
        while True:
            with self._wake:
                while self._open and (kind := self._next(aside)) is None:
                    self._wake.wait(self._held_s() if aside else None)
                if not self._open:
                    return
                assert kind is not None
                work = self._waiting.pop(kind)
                self._busy += 1
            try:
                work()
            except Exception as error:
                if self._open:
                    tell(self.failed.emit, kind, error)
            finally:
                with self._wake:
                    self._busy -= 1

    def _held_s(self) -> float | None:
        """Seconds that the line aside is held still; None where it is not."""
        left = self._held_until - time.monotonic()
        return left if left > 0 else None

    def _next(self, aside: bool) -> str | None:
        """The kind whose turn it is on a line."""
        if aside and self._held_s() is not None:
            return None
        here = [kind for kind in self._waiting if (kind in self._aside) == aside]
        return next((kind for kind in self._first if kind in here), here[0] if here else None)

"""One line of previews, in which only the newest request of each kind counts."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Final

from psygnal import Signal

from .jobs import STOP_S

FIRST: Final[tuple[str, ...]] = ("view", "recipe")
"""Kinds that go before all others: what the eye waits for."""


class Latest:
    """A worker that always does the newest request of each kind and forgets the ones it overtook.

    An error in one request is told by ``failed`` and does not stop the worker.
    """

    failed = Signal(str, Exception)

    def __init__(self, name: str = "previews", first: Sequence[str] = FIRST) -> None:
        self._first = tuple(first)
        self._waiting: dict[str, Callable[[], None]] = {}
        self._wake = threading.Condition()
        self._open = True
        self._busy = False
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Whether a request is in hand or waits."""
        with self._wake:
            return self._busy or bool(self._waiting)

    def request(self, kind: str, work: Callable[[], None]) -> None:
        """Replace the waiting request of this kind. Once stopped it is forgotten."""
        with self._wake:
            if self._open:
                self._waiting.pop(kind, None)
                self._waiting[kind] = work
                self._wake.notify()

    def forget(self, beginning: str) -> None:
        """Drop the waiting requests whose kinds begin so."""
        with self._wake:
            for kind in [k for k in self._waiting if k.startswith(beginning)]:
                del self._waiting[kind]

    def stop(self) -> None:
        """Drop what waits and end the thread; a request in hand is left after a moment."""
        with self._wake:
            self._open = False
            self._waiting.clear()
            self._wake.notify()
        if self._thread is not threading.current_thread():
            self._thread.join(timeout=STOP_S)

    def _run(self) -> None:
        while True:
            with self._wake:
                self._busy = False
                while self._open and not self._waiting:
                    self._wake.wait()
                if not self._open:
                    return
                self._busy = True
                kind = next((k for k in self._first if k in self._waiting), None)
                if kind is None:
                    kind = next(iter(self._waiting))
                work = self._waiting.pop(kind)
            try:
                work()
            except Exception as error:
                if self._open:
                    self.failed.emit(kind, error)

"""Progress and cancelling, handed down into long functions."""

from __future__ import annotations

import threading
from collections.abc import Callable

from .errors import Cancelled


class Progress:
    """Told how far a job is; asked whether it should go on.

    ``step`` raises :class:`Cancelled` once ``cancel`` was called, so a long function only has to
    report.
    """

    def __init__(self, report: Callable[[float, str], None] | None = None) -> None:
        self._report = report
        self._stop = threading.Event()

    def step(self, fraction: float, text: str = "") -> None:
        """Say that ``fraction`` (0 to 1) is done. Raises Cancelled when asked to stop."""
        if self._stop.is_set():
            raise Cancelled
        if self._report is not None:
            self._report(min(max(fraction, 0.0), 1.0), text)

    def cancel(self) -> None:
        """Ask the job to stop at its next step."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        """Whether the person asked to stop."""
        return self._stop.is_set()

    def part(self, start: float, end: float) -> Progress:
        """A progress that covers only the stretch from ``start`` to ``end`` of this one."""
        return _Part(self, start, end)


class _Part(Progress):
    def __init__(self, whole: Progress, start: float, end: float) -> None:
        super().__init__()
        self._whole, self._start, self._end = whole, start, end

    def step(self, fraction: float, text: str = "") -> None:
        self._whole.step(
            self._start + (self._end - self._start) * min(max(fraction, 0.0), 1.0), text
        )


SILENT = Progress()

"""The job that measures the subs of a group, one group at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Final

from ...core.model.progress import Progress
from ..log.sub import Sub
from ..work.jobs import Jobs
from .measures import Measures

MEASURING: Final = "measuring subs"
_REFRESH_S: Final = 1.5
"""While subs are measured the group is judged anew this often: each judgement looks at all."""


class GroupMeasuring:
    """``refresh`` is called now and then while subs are measured, ``done`` when all are, and
    ``stopped`` where the job was cancelled or failed.
    """

    def __init__(
        self,
        jobs: Jobs,
        measures: Measures,
        refresh: Callable[[], None],
        done: Callable[[], None],
        stopped: Callable[[], None],
        clock: Callable[[], float],
    ) -> None:
        self._jobs, self._measures, self._clock = jobs, measures, clock
        self._refresh, self._done, self._was_stopped = refresh, done, stopped
        self._lock = threading.Lock()
        self._running = False
        jobs.cancelled.connect(self._stopped)
        jobs.failed.connect(lambda title, _error: self._stopped(title))

    def start(self, subs: Sequence[Sub]) -> None:
        """Measure what was not measured, unless that is being done."""
        with self._lock:
            if self._running:
                return
            self._running = True
        self._jobs.submit(MEASURING, lambda p: self._measure(subs, p), self._measured)

    def _measure(self, subs: Sequence[Sub], progress: Progress) -> None:
        last = self._clock()

        def made() -> None:
            nonlocal last
            if self._clock() - last > _REFRESH_S:
                last = self._clock()
                self._refresh()

        self._measures.measure_missing(subs, progress, made)

    def _measured(self, _result: object) -> None:
        with self._lock:
            self._running = False
        self._done()

    def _stopped(self, title: str) -> None:
        if title == MEASURING:
            with self._lock:
                self._running = False
            self._was_stopped()

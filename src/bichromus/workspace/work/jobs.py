"""Heavy work off the interface thread: one line of jobs, first in, first out."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Final

from psygnal import Signal

from ...core.model.errors import BichromusError, Cancelled
from ...core.model.progress import Progress
from .tell import tell

PATIENCE_S: Final = 0.6
"""How long a cancelled job may take to reach its next step before it is abandoned."""
STOP_S: Final = 0.07
"""How long closing waits for a worker to end its work in hand; after that it is left to itself. Six
may stand still at once (job, preview, two decoders, watcher, rehearsal): half a second for all.
"""
_POLL_S: Final = 0.05
_ESTIMATE_FROM: Final = 0.05
"""Share of a job, and seconds of it, from which its pace tells the time that is left."""
_ESTIMATE_AFTER_S: Final = 1.0


@dataclass(frozen=True)
class JobReport:
    """Where a job stands. ``left_s`` is an estimate of the remaining seconds, None while
    unknown.
    """

    title: str
    fraction: float
    text: str
    left_s: float | None = None


@dataclass
class _Job:
    title: str
    work: Callable[[Progress], Any]
    done: Callable[[Any], None] | None
    progress: Progress = field(default_factory=Progress)
    begun: float = 0.0
    abandoned: bool = False


class Jobs:
    """First in, first out, one at a time. Signals are emitted from a worker's thread.

    ``idle`` follows the last job; ``failed`` carries the title and the error. A job that was
    cancelled and is deep in one large plane is abandoned after a moment: nothing waits for it, and
    what comes of it is dropped. ``clock`` gives seconds that only grow.
    """

    reported = Signal(JobReport)
    finished = Signal(str, object)
    failed = Signal(str, Exception)
    cancelled = Signal(str)
    idle = Signal()

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._queue: queue.Queue[_Job | None] = queue.Queue()
        self._current: _Job | None = None
        self._waiting = 0
        self._open = True
        self._guard = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="jobs", daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Whether a job runs or waits."""
        with self._guard:
            return self._waiting > 0

    def submit(
        self,
        title: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None] | None = None,
    ) -> None:
        """Queue ``work``; ``done`` gets its result on the worker's thread. Once stopped it is
        forgotten.
        """
        job = _Job(title, work, done)
        job.progress = Progress(partial(self._report, job))
        with self._guard:
            if not self._open:
                return
            self._waiting += 1
        self._queue.put(job)

    def cancel(self) -> None:
        """Ask the running job to stop."""
        with self._guard:
            if self._current is not None:
                self._current.progress.cancel()

    def stop(self) -> None:
        """Cancel what runs, drop what waits, end the thread."""
        with self._guard:
            self._open = False
        self.cancel()
        while True:
            try:
                self._queue.get_nowait()
            except queue.Empty:
                break
        self._queue.put(None)
        if self._thread is not threading.current_thread():
            self._thread.join(timeout=STOP_S)

    def _report(self, job: _Job, fraction: float, text: str) -> None:
        spent = self._clock() - job.begun
        known = fraction > _ESTIMATE_FROM and spent > _ESTIMATE_AFTER_S
        left = spent / fraction * (1 - fraction) if known else None
        self.reported.emit(JobReport(job.title, fraction, text, left))

    def _run(self) -> None:
        while (job := self._queue.get()) is not None:
            with self._guard:
                self._current = job
                if not self._open:
                    job.progress.cancel()
            worker = threading.Thread(target=self._one, args=(job,), name="job", daemon=True)
            worker.start()
            self._watch(job, worker)
            with self._guard:
                self._current = None
                self._waiting -= 1
                quiet = self._waiting == 0 and self._open
            if quiet:
                tell(self.idle.emit)

    def _watch(self, job: _Job, worker: threading.Thread) -> None:
        """Until the job has ended, or was cancelled and does not listen."""
        asked: float | None = None
        while worker.is_alive():
            worker.join(_POLL_S)
            if not job.progress.cancelled:
                continue
            asked = self._clock() if asked is None else asked
            patience = PATIENCE_S if self._open else 0.0
            if self._clock() - asked >= patience and self._abandon(job):
                if self._open:
                    tell(self.cancelled.emit, job.title)
                return

    def _abandon(self, job: _Job) -> bool:
        """Wait for a job no longer; False where it has ended meanwhile."""
        with self._guard:
            if job.abandoned:
                return False
            job.abandoned = True
            return True

    def _one(self, job: _Job) -> None:
        end: Callable[[], None]
        try:
            job.begun = self._clock()
            job.progress.step(0.0, job.title)
            result = job.work(job.progress)
        except Cancelled:
            end = partial(self.cancelled.emit, job.title)
        except MemoryError:
            error = BichromusError("There is not enough memory for this", do="Close other programs")
            end = partial(self.failed.emit, job.title, error)
        except Exception as failure:
            end = partial(self.failed.emit, job.title, failure)
        else:
            end = partial(self._finish, job, result)
        if self._abandon(job):  # what was abandoned says nothing any more
            tell(end)

    def _finish(self, job: _Job, result: Any) -> None:
        try:
            if job.done is not None:
                job.done(result)
        except Exception as failure:
            self.failed.emit(job.title, failure)
        else:
            self.finished.emit(job.title, result)

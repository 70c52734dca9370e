"""Work off the interface thread: one line of heavy jobs, one of previews in which only the newest
counts.
"""

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

_PATIENCE_S: Final = 0.6
_FIRST: Final[tuple[str, ...]] = ("view", "recipe")


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
    left: bool = False


class Jobs:
    """First in, first out, one at a time. Signals are emitted from a worker's thread.

    ``idle`` follows the last job; ``failed`` carries the title and the error. A job that was
    cancelled and is deep in one large plane is left to itself after a moment: nothing waits for it,
    and what comes of it is dropped.
    """

    reported = Signal(JobReport)
    finished = Signal(str, object)
    failed = Signal(str, Exception)
    cancelled = Signal(str)
    idle = Signal()

    def __init__(self) -> None:
        self._queue: queue.Queue[_Job | None] = queue.Queue()
        self._current: _Job | None = None
        self._waiting = 0
        self._guard = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="jobs", daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        with self._guard:
            return self._waiting > 0

    def start(
        self, title: str, work: Callable[[Progress], Any], done: Callable[[Any], None] | None = None
    ) -> None:
        """Queue ``work``; ``done`` gets its result on the worker's thread."""
        began = time.monotonic()

        def report(fraction: float, text: str) -> None:
            spent = time.monotonic() - began
            left = spent / fraction * (1 - fraction) if fraction > 0.05 and spent > 1 else None
            self.reported.emit(JobReport(title, fraction, text, left))

        with self._guard:
            self._waiting += 1
        self._queue.put(_Job(title, work, done, Progress(report)))

    def cancel(self) -> None:
        """Ask the running job to stop."""
        with self._guard:
            if self._current is not None:
                self._current.progress.cancel()

    def stop(self) -> None:
        """Cancel what runs, drop what waits, end the thread."""
        self.cancel()
        while True:
            try:
                self._queue.get_nowait()
            except queue.Empty:
                break
        self._queue.put(None)
        self._thread.join(timeout=5)

    def _run(self) -> None:
        while (job := self._queue.get()) is not None:
            with self._guard:
                self._current = job
            worker = threading.Thread(target=self._one, args=(job,), name="job", daemon=True)
            worker.start()
            asked: float | None = None
            while worker.is_alive():
                worker.join(0.05)
                if job.progress.cancelled and asked is None:
                    asked = time.monotonic()
                if (
                    asked is not None
                    and time.monotonic() - asked > _PATIENCE_S
                    and self._leave(job)
                ):
                    self.cancelled.emit(job.title)
                    break
            with self._guard:
                self._current = None
                self._waiting -= 1
                quiet = self._waiting == 0
            if quiet:
                self.idle.emit()

    def _leave(self, job: _Job) -> bool:
        """Wait for a job no longer; False where it has ended meanwhile."""
        with self._guard:
            if job.left:
                return False
            job.left = True
            return True

    def _one(self, job: _Job) -> None:
        end: Callable[[], None]
        try:
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
        if self._leave(job):  # what was left alone says nothing any more
            end()

    def _finish(self, job: _Job, result: Any) -> None:
        try:
            if job.done is not None:
                job.done(result)
        except Exception as failure:
            self.failed.emit(job.title, failure)
        else:
            self.finished.emit(job.title, result)


class Latest:
    """A worker that always does the newest request of each kind and forgets the ones it overtook.

    An error in one request is told by ``failed`` and does not stop the worker.
    """

    failed = Signal(str, Exception)

    def __init__(self, name: str = "previews") -> None:
        self._wanted: dict[str, Callable[[], None]] = {}
        self._wake = threading.Condition()
        self._open = True
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    def ask(self, kind: str, work: Callable[[], None]) -> None:
        """Replace the waiting request of this kind."""
        with self._wake:
            self._wanted.pop(kind, None)
            self._wanted[kind] = work
            self._wake.notify()

    def stop(self) -> None:
        with self._wake:
            self._open = False
            self._wanted.clear()
            self._wake.notify()
        self._thread.join(timeout=5)

    def _run(self) -> None:
        while True:
            with self._wake:
                while self._open and not self._wanted:
                    self._wake.wait()
                if not self._open:
                    return
                kind = next((k for k in _FIRST if k in self._wanted), next(iter(self._wanted)))
                work = self._wanted.pop(kind)
            try:
                work()
            except Exception as error:
                self.failed.emit(kind, error)

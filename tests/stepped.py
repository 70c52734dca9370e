"""Workers that are stepped by hand: nothing happens in a test that it did not ask for."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any
from weakref import WeakSet

from bichromus.core.model.errors import Cancelled
from bichromus.core.model.progress import Progress
from bichromus.workspace.session import Session
from bichromus.workspace.work.jobs import JobReport, Jobs
from bichromus.workspace.work.latest import FIRST, Latest


class SteppedJobs(Jobs):
    """Jobs in order, each when ``step`` is called."""

    def __init__(self) -> None:
        self._jobs: deque[tuple[str, Callable[[Progress], Any], Callable[[Any], None] | None]] = (
            deque()
        )
        self._running: Progress | None = None
        self._stopped = False
        WORKERS.add(self)

    @property
    def busy(self) -> bool:
        return bool(self._jobs) or self._running is not None

    def submit(
        self,
        title: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None] | None = None,
    ) -> None:
        if not self._stopped:
            self._jobs.append((title, work, done))

    def cancel(self) -> None:
        if self._running is not None:
            self._running.cancel()

    def stop(self) -> None:
        self._stopped = True
        self._jobs.clear()

    def step(self) -> bool:
        """Run the next job to its end; False where there is none."""
        if not self._jobs or self._running is not None:
            return False
        title, work, done = self._jobs.popleft()
        progress = Progress(lambda f, text: self.reported.emit(JobReport(title, f, text)))
        self._running = progress
        end: Callable[[], None]
        try:
            progress.step(0.0, title)
            result = work(progress)
            end = partial(self._ended, title, done, result)
        except Cancelled:
            end = partial(self.cancelled.emit, title)
        except Exception as error:
            end = partial(self.failed.emit, title, error)
        end()
        self._running = None
        if not self._jobs:
            self.idle.emit()
        return True

    def _ended(self, title: str, done: Callable[[Any], None] | None, result: object) -> None:
        if done is not None:
            done(result)
        self.finished.emit(title, result)


class SteppedLatest(Latest):
    """The newest request of each kind, when ``step`` is called."""

    def __init__(self) -> None:
        self._requests: dict[str, Callable[[], None]] = {}
        self._stopped = False
        WORKERS.add(self)

    @property
    def busy(self) -> bool:
        return bool(self._requests)

    def request(self, kind: str, work: Callable[[], None]) -> None:
        if not self._stopped:
            self._requests.pop(kind, None)
            self._requests[kind] = work

    def hold_aside(self, seconds: float) -> None:
        pass

    def let_aside_go(self) -> None:
        pass

    def stop(self) -> None:
        self._stopped = True
        self._requests.clear()

    def step(self) -> bool:
        """Do the next request; False where there is none."""
        if not self._requests:
            return False
        kind = next((k for k in FIRST if k in self._requests), next(iter(self._requests)))
        work = self._requests.pop(kind)
        try:
            work()
        except Exception as error:
            self.failed.emit(kind, error)
        return True


WORKERS: WeakSet[SteppedJobs | SteppedLatest] = WeakSet()


def step_all() -> bool:
    """One step of one worker that has something to do: previews first."""
    order = sorted(WORKERS, key=lambda w: isinstance(w, SteppedJobs))
    return any(w.step() for w in order)


def stepped_session(
    folder: Path, name: str | None = None, layers: bool = False, **more: Any
) -> Session:
    """A session whose work is done by ``waiting.wait``, in this thread. Stars are split off and
    noise is sought only with ``layers``.
    """
    made = Session(folder, name, jobs=SteppedJobs(), previews=SteppedLatest(), **more)
    made.layers.on = layers
    return made

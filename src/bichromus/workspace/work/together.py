"""Pieces of one job done side by side, within the memory that is free."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from typing import Final, TypeVar

from ...core.files.foreign import free_bytes
from ...core.model.progress import Progress
from ...core.numerics.cores import one_of_several, waiting

T = TypeVar("T")
THREADS: Final = 2
_SHARE: Final = 0.5  # of the memory that is free now


def at_once(needs: Sequence[float]) -> int:
    """How many pieces may be done side by side when they need so many bytes each."""
    largest = sorted(needs, reverse=True)[:THREADS]
    while len(largest) > 1 and sum(largest) > _SHARE * free_bytes():
        largest.pop()
    return max(len(largest), 1)


def side_by_side(
    pieces: Sequence[Callable[[Progress], T]],
    progress: Progress,
    needs: Sequence[float],
    costs: Sequence[float] = (),
) -> list[T]:
    """What pieces give, in their order; as many at a time as there is room for what they need, in
    bytes, the largest first. ``costs`` are about how long they take, where they differ. Where one
    raises, those that wait are not begun, those that run are asked to stop, and it is raised.
    """
    threads = at_once(needs)
    shared = _Shared(progress, costs or [1.0] * len(pieces))
    if threads < 2 or len(pieces) < 2:
        return [piece(shared.share(n)) for n, piece in enumerate(pieces)]

    def run(number: int) -> T:
        with one_of_several():
            return pieces[number](shared.share(number))

    with waiting(), ThreadPoolExecutor(threads, thread_name_prefix="piece") as pool:
        order = sorted(range(len(pieces)), key=lambda n: -needs[n])
        begun = {n: pool.submit(run, n) for n in order}
        futures = [begun[n] for n in range(len(pieces))]
        done, _ = wait(futures, return_when=FIRST_EXCEPTION)
        if any(f.exception() is not None for f in done):
            shared.stop()
            for future in futures:
                future.cancel()
    failed = [f for f in futures if not f.cancelled() and f.exception() is not None]
    if failed:
        first = next((f for f in failed if f in done), failed[0])
        raise first.exception() or RuntimeError("a piece has failed")
    return [f.result() for f in futures]


class _Shared:
    """The progress of all pieces as one."""

    def __init__(self, whole: Progress, costs: Sequence[float]) -> None:
        self._whole, self._lock = whole, threading.Lock()
        self._costs, self._sum = costs, max(sum(costs), 1e-9)
        self._done = [0.0] * len(costs)
        self._stop = Progress()

    def share(self, number: int) -> Progress:
        """The progress of one piece."""
        return _Share(self, number)

    def stop(self) -> None:
        """Ask all pieces to stop."""
        self._stop.cancel()

    def step(self, number: int, fraction: float, text: str) -> None:
        """One piece has come so far."""
        self._stop.step(0.0)  # raises where another has failed
        with self._lock:
            self._done[number] = max(self._done[number], fraction)
            far = sum(c * d for c, d in zip(self._costs, self._done, strict=True)) / self._sum
            self._whole.step(far, text)  # told in order


class _Share(Progress):
    def __init__(self, shared: _Shared, number: int) -> None:
        super().__init__()
        self._shared, self._number = shared, number

    def step(self, fraction: float, text: str = "") -> None:
        self._shared.step(self._number, min(max(fraction, 0.0), 1.0), text)

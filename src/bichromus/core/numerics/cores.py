"""The cores, shared by pieces of work that run side by side: threads within them would only wait
for each other.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager


class _Here(threading.local):
    piece = False


_here = _Here()
_guard = threading.Lock()
_running = 0


@contextmanager
def one_of_several() -> Iterator[None]:
    """What is done in it is one of several pieces that run side by side."""
    before = _here.piece
    _here.piece = True
    _count(+1)
    try:
        yield
    finally:
        _count(-1)
        _here.piece = before


@contextmanager
def waiting() -> Iterator[None]:
    """While it lasts, a piece waits for others and takes no core."""
    if not _here.piece:
        yield
        return
    _count(-1)
    try:
        yield
    finally:
        _count(+1)


def shared(threads: int) -> int:
    """How many of ``threads`` are this piece's share now; all where it is alone, or none of
    several.
    """
    return max(1, threads // max(_running, 1)) if _here.piece else threads


def _count(more: int) -> None:
    global _running
    with _guard:
        _running += more

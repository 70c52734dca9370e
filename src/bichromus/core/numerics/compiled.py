"""Loops over numbers, compiled to machine code on first use where Numba is there (Lam, Pitrou &
Seibert 2015). Each has a plain way beside it that tells the same, and does where it is not.
"""

from __future__ import annotations

import importlib
import logging
import os
import threading
from collections.abc import Callable, Sequence
from typing import Any, Final, Generic, TypeVar, cast

F = TypeVar("F", bound=Callable[..., None])
OFF: Final = "BICHROMUS_PLAIN"
"""Set in the environment, nothing is compiled."""
_loaded: Final = threading.Event()
_log = logging.getLogger(__name__)
_lock = threading.Lock()


def load() -> bool:
    """Load the compiler where it is there; whether it is."""
    try:
        importlib.import_module("numba")
    except ImportError:
        return False
    _loaded.set()
    return True


class Compiled(Generic[F]):
    """A ``loop`` that works on arrays in place, written as Numba reads it. It may call functions
    that it ``uses``, of the same file. ``wide``: every pixel for itself, so that a product and a
    sum may be one step, many pixels at once; such a loop saves less than it costs to load the
    compiler, and waits until something else has done that. ``sums``: it adds in whatever order is
    quickest.
    """

    def __init__(
        self,
        loop: F,
        uses: Sequence[Callable[..., Any]] = (),
        wide: bool = False,
        sums: bool = False,
    ):
        self._loop, self._uses, self._wide = loop, tuple(uses), wide
        self._free = frozenset({"contract", "reassoc"} if sums else {"contract"} if wide else ())
        self._made: F | None = None
        self._tried = False

    def get(self) -> F | None:
        """The compiled loop, which frees the interpreter while it runs; None where there is no
        compiler, and the plain way has to do.
        """
        if self._wide and not _loaded.is_set():
            return None
        if not self._tried:
            with _lock:
                if not self._tried:
                    self._made = _made(self._loop, self._uses, self._free)
                    self._tried = True
        return None if OFF in os.environ else self._made


def _made(loop: F, uses: Sequence[Callable[..., Any]], free: frozenset[str]) -> F | None:
    if not load():
        return None
    numba = importlib.import_module("numba")
    how: dict[str, Any] = {"nogil": True}
    if free:
        how |= {"fastmath": set(free), "error_model": "numpy"}
    for function in uses:
        numba.extending.register_jitable(**how)(function)
    try:
        # kept on the disk: compiled once for each machine
        return cast("F", numba.njit(cache=True, **how)(loop))
    except RuntimeError as error:  # nowhere to keep it
        _log.info("%s is compiled anew at each start: %s", loop.__name__, error)
        return cast("F", numba.njit(**how)(loop))

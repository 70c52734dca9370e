"""Brings the store's write-ahead log into the store, beside the work and never within a gesture.

A command is in the log when it returns: what a killed program has done is all there. The disk is
waited for here alone, about a second later; only a cut of the power can take those seconds.
"""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from pathlib import Path
from typing import Final

_REST_S: Final = 1.0
"""How long commands are collected before the disk is waited for."""


class Checkpoints:
    """A thread with a connection of its own; ``ask`` returns at once."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._asked, self._ended = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="checkpoints", daemon=True)
        self._thread.start()

    def ask(self) -> None:
        """Something was written."""
        self._asked.set()

    def stop(self) -> None:
        """End; closing the store writes what is left."""
        self._ended.set()
        self._asked.set()

    def _run(self) -> None:
        while not self._ended.is_set():
            self._asked.wait()
            if self._ended.wait(_REST_S):
                return
            self._asked.clear()
            with contextlib.suppress(sqlite3.Error):  # moved, or full: the log keeps it
                self._checkpoint()

    def _checkpoint(self) -> None:
        where = f"{self._path.absolute().as_uri()}?mode=rw"
        with contextlib.closing(sqlite3.connect(where, uri=True)) as db:
            db.execute("PRAGMA synchronous=FULL")
            db.execute("PRAGMA wal_checkpoint(PASSIVE)")

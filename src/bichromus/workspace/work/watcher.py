"""A folder that grows by itself, looked at every moment: network shares tell of no change."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Final

from ...core.files.sub_header import is_sub_file
from .jobs import STOP_S

_EVERY_S: Final = 1.0


class Watcher:
    """Calls ``arrived`` with new files once they have stopped growing, ``lost`` when the folder
    goes away.

    Both are called from its own thread. Files that are there at the start count as new.
    """

    def __init__(
        self,
        folder: Path,
        arrived: Callable[[Sequence[Path]], None],
        lost: Callable[[], None] = lambda: None,
        every_s: float = _EVERY_S,
    ) -> None:
        self.folder = folder
        self._arrived, self._lost, self._every = arrived, lost, every_s
        self._sizes: dict[Path, tuple[int, int]] = {}
        self._announced: dict[Path, tuple[int, int]] = {}
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="watch", daemon=True)

    def start(self) -> None:
        """Begin to look, in a thread."""
        self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._stop.set()
        if self._thread is not threading.current_thread() and self._thread.is_alive():
            self._thread.join(timeout=STOP_S)

    def _run(self) -> None:
        here = True
        while not self._stop.is_set():
            try:
                self.look()
                here = True
            except OSError:
                if here:
                    self._lost()
                here = False
            self._stop.wait(self._every)

    def look(self) -> None:
        """One look: what is unchanged since the last one, and not told yet, has arrived."""
        self.folder.stat()
        now: dict[Path, tuple[int, int]] = {}
        for path in self.folder.rglob("*"):
            if is_sub_file(path):
                try:
                    found = path.stat()
                except OSError:
                    continue  # it was moved away meanwhile
                now[path] = found.st_size, found.st_mtime_ns
        ready = sorted(
            p
            for p, what in now.items()
            if self._sizes.get(p) == what and self._announced.get(p) != what
        )
        self._sizes = now
        self._announced.update({p: now[p] for p in ready})
        if ready and not self._stop.is_set():
            self._arrived(ready)

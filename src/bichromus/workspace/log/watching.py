"""The watched folder of the open project: what arrives in it is taken into the log by itself."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from ...core.model.errors import ProjectError, WriteFailed
from ..project.context import ProjectContext
from ..work.watcher import Watcher
from .intake import Intake, arrive
from .table import LogTable

Arrived = Callable[[Intake, bool], None]
"""What was found, and whether the log changed."""


@dataclass(frozen=True)
class WatchState:
    """How the watching goes: whether the folder is away, and subs that have arrived."""

    lost: bool = False
    arrived: int = 0


class FolderWatch:
    """Follows the folder that the project watches. ``arrived`` and ``lost`` are called from the
    watcher's thread.
    """

    def __init__(
        self,
        context: ProjectContext,
        log: LogTable,
        arrived: Arrived,
        lost: Callable[[], None],
        make: Callable[..., Watcher] = Watcher,
    ) -> None:
        self._context, self._log, self._make = context, log, make
        self._tell_arrived, self._tell_lost = arrived, lost
        self._lock = threading.Lock()
        self._watcher: Watcher | None = None
        self._closed = False
        self.state = WatchState()

    def follow(self, folder: str) -> None:
        """Watch this folder from now on; none where empty."""
        with self._lock:
            wanted = Path(folder) if folder and not self._closed else None
            if (self._watcher.folder if self._watcher else None) == wanted:
                return
            old, self._watcher = self._watcher, None
            self.state = WatchState()
            if wanted is not None:
                self._watcher = self._make(wanted, partial(self._arrived, wanted), self._lost)
                self._watcher.start()
        if old is not None:
            old.stop()

    def close(self) -> None:
        """Watch nothing any more."""
        self._closed = True
        self.follow("")

    def _arrived(self, folder: Path, files: Sequence[Path]) -> None:
        rows = self._log.store.rows("SELECT path FROM subs UNION SELECT path FROM others")
        known = {str(r[0]) for r in rows}
        new = [f for f in files if str(f.absolute()) not in known]
        self.state = replace(self.state, lost=False)
        if not new or self._closed:
            return
        try:
            found, changed = arrive(self._log, folder, new)
        except ProjectError:
            return  # closed meanwhile
        except Exception as error:
            if self._closed:
                return
            fault = WriteFailed(
                "What arrived could not be written down",
                why=str(error),
                do="Free some space, then take the folder in",
                file=folder,
            )
            self._context.report([fault])
            return
        self.state = replace(self.state, arrived=self.state.arrived + found.added)
        self._tell_arrived(found, changed)

    def _lost(self) -> None:
        self.state = replace(self.state, lost=True)
        self._tell_lost()

"""The person's library: sites, rigs, filters and targets of all projects, one file in the data
folder. Every change is made to what the file holds at that moment, under a lock, so that two open
windows lose nothing of each other.
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Final

import platformdirs

from ...core.files.atomic import write_text
from ...core.model.errors import BichromusError, UnreadableFile, WriteFailed
from ...core.model.text_file import read_text
from .files import parse_things, things_text
from .things import Things

_NAME: Final = "library.json"
_LARGEST: Final = 20_000_000  # bytes; a longer file is no library
_STAMP = tuple[int, int, int]


class PersonLibrary:
    """``fault`` says that the file cannot be used; then it is left as it is, nothing is kept."""

    def __init__(self, path: Path | None = None) -> None:
        """In the person's data folder where no ``path`` is given; nothing is read yet."""
        self.path = path or Path(platformdirs.user_data_dir("bichromus")) / _NAME
        self.fault: BichromusError | None = None
        self._things = Things()
        self._stamp: _STAMP | None = None

    @property
    def things(self) -> Things:
        """What the file holds now; read again only where it has changed."""
        stamp = self._look()
        if stamp != self._stamp:
            self._things, self._stamp = self._read(), stamp
        return self._things

    def change(self, work: Callable[[Things], Things]) -> bool:
        """Keep what ``work`` makes of what is there; whether that differs. Raises InputError where
        the file cannot be used, WriteFailed where the disk refuses.
        """
        with self._locked():
            before = self.things
            if self.fault is not None:
                raise self.fault
            after = work(before)
            if after == before:
                return False
            write_text(self.path, things_text(after), overwrite=True)
            self._things, self._stamp = after, self._look()
        return True

    def _look(self) -> _STAMP | None:
        try:
            found = os.stat(self.path)
        except OSError:
            return None
        return found.st_ino, found.st_size, found.st_mtime_ns

    def _read(self) -> Things:
        self.fault = None
        try:
            if self.path.stat().st_size > _LARGEST:
                raise ValueError("it is too long")
            return parse_things(read_text(self.path))
        except FileNotFoundError:
            return Things()
        except (OSError, ValueError) as error:
            self.fault = UnreadableFile(
                "Your library of sites, rigs, filters and targets cannot be used",
                why=getattr(error, "strerror", None) or str(error).splitlines()[0],
                do="Move the file away to begin a new one; projects keep the things they use",
                file=self.path,
            )
            return Things()

    @contextmanager
    def _locked(self) -> Iterator[None]:
        lock = self.path.with_suffix(".lock")
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            handle = open(lock, "a")  # noqa: SIM115 - closed below, where the lock ends
        except OSError as error:
            raise WriteFailed(
                "Your library cannot be written",
                why=error.strerror or str(error),
                do="Make room, or allow writing there",
                file=self.path,
            ) from error
        try:
            fcntl.flock(handle, fcntl.LOCK_EX)
            yield
        finally:
            handle.close()

"""A project on disk: a folder with a SQLite store, a lock and a cache that may be deleted at any
time.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import shutil
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Final

from pydantic import ValidationError

from ...core.files.atomic import write_failed
from ...core.model.errors import ProjectError
from ...core.model.visible import visible
from .checkpoints import Checkpoints
from .copies import keep_copy
from .door import Door, copy_plain, require_plain
from .faults import damaged, is_full, not_understood, store_fault
from .journal import Edit, LogChange, apply, pack
from .migrations import SCHEMA, VERSION, add_log_columns, bring_up
from .state import ProjectState

SUFFIX: Final = ".bichromus"
_KEPT: Final = 400
_PID_BYTES: Final = 20
_MOST_STATE: Final = 64_000_000
"""Letters of a state; one with a thousand stacks has a million."""
_KEPT_FOLDERS: Final = ("versions", "cache", "copies", "responses")
_FULL: Final = (errno.ENOSPC, errno.EDQUOT)
_READ_ONLY: Final = (errno.EROFS, errno.EACCES, errno.EPERM, *_FULL)


class _NoRoom(Exception):
    """The store is there, and its disk has no room for what is written when it is opened."""


def _link(source: str, target: Path) -> None:
    """The same file under another name; a copy where that cannot be. Entries are never changed."""
    try:
        os.link(source, target, follow_symlinks=False)
    except OSError:
        shutil.copy2(source, target, follow_symlinks=False)


def _refuse_foreign_schema(db: sqlite3.Connection, path: Path) -> None:
    """Raises ProjectError for a store with triggers or views: this program makes none, and they
    would act whenever it reads or writes.
    """
    found = db.execute(
        "SELECT type FROM sqlite_master WHERE type IN ('trigger', 'view') LIMIT 1"
    ).fetchone()
    if found is not None:
        raise damaged(f"it holds a {found[0]}, which this program never makes", path)


class Store:
    """The history of states; every command is one row, written before the call returns.
    ``read_only``: its folder or its disk may not be written to, and no command is taken.
    """

    def __init__(self, folder: Path) -> None:
        """Open the project in ``folder``, or make it. Raises ProjectError."""
        self.folder = folder.absolute()
        self.door = Door(self.folder)
        self._guard = threading.RLock()
        self.read_only = False
        self.why_read_only = "its folder or its disk may not be written to"
        self._lock: IO[bytes] | None = None
        self._checkpoints: Checkpoints | None = None
        try:
            self.folder.mkdir(mode=0o700, exist_ok=True)
            require_plain(self.folder)
            self.door.folder("cache", make=True)
            self._lock = self._take_lock()
        except OSError as error:
            if error.errno in _READ_ONLY and (self.folder / "project.db").is_file():
                self._open_to_read(full=error.errno in _FULL)
                return
            raise ProjectError(
                "The project cannot be opened",
                why=(error.strerror or str(error)).lower(),
                do="Choose a folder that you may write to",
                file=self.folder,
            ) from error
        try:
            self._db = self._connect()
            self._checkpoints = Checkpoints(self.folder / "project.db")
        except _NoRoom:
            self._unlock()
            self._lock = None
            self._open_to_read(full=True)
        except BaseException:
            self._unlock()
            raise

    def _open_to_read(self, full: bool) -> None:
        """On a disk that cannot be written to, or is full, what is there can still be looked at."""
        self.read_only = True
        if full:
            self.why_read_only = "there is no room left on its disk"
        self._db = self._connect_to_read()

    @property
    def cache(self) -> Path:
        """Folder of the prepared channels."""
        return self.folder / "cache"

    def _take_lock(self) -> IO[bytes]:
        flags = os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC
        handle = os.fdopen(os.open(self.folder / "lock", flags, 0o600), "r+b", buffering=0)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            handle.seek(0)
            owner = visible(handle.read(_PID_BYTES).decode("ascii", "replace").strip())
            handle.close()
            raise ProjectError(
                "This project is open already",
                why=f"in another window (process {owner or 'unknown'})",
                do="Close it there first",
                file=self.folder,
            ) from error
        with contextlib.suppress(OSError):  # who holds it is told only where there is room for that
            handle.seek(0)
            handle.truncate()
            handle.write(str(os.getpid()).encode())
        return handle

    def _connect_to_read(self) -> sqlite3.Connection:
        """A store on a disk that may not be written to. Raises ProjectError."""
        path = self.folder / "project.db"
        journal = self.folder / "project.db-wal"
        ways = ["&immutable=1"]  # nothing is written beside it
        if journal.is_file() and journal.stat().st_size:
            ways.insert(0, "")  # what lies in the journal counts, where it can be read
        try:
            for more in ways:
                where = f"{path.as_uri()}?mode=ro{more}"
                db = sqlite3.connect(where, uri=True, check_same_thread=False)
                try:
                    found = db.execute("SELECT value FROM meta WHERE key='version'").fetchone()
                except sqlite3.OperationalError:
                    db.close()
                    if more:
                        raise
                    continue
                if found and int(found[0]) == VERSION:
                    return db
                db.close()
                raise ProjectError(
                    "This project comes from another version of the program",
                    why="it would have to be brought up to this one, and it can only be read",
                    do="Copy its folder to a place that you may write to",
                    file=self.folder,
                )
            raise AssertionError("unreachable")
        except (sqlite3.Error, ValueError) as error:
            fault = error if isinstance(error, sqlite3.Error) else sqlite3.DatabaseError(str(error))
            raise store_fault(fault, path) from error

    def _connect(self) -> sqlite3.Connection:
        path = self.folder / "project.db"
        try:
            db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
            with contextlib.suppress(OSError):  # of another owner: it stays as it is
                os.chmod(path, 0o600)  # it holds the site
        except (sqlite3.Error, OSError) as error:
            raise ProjectError(
                "The project's store cannot be reached",
                why="the disk or the rights of the folder do not allow it",
                do="Check both, then open it again",
                file=path,
            ) from error
        try:
            db.execute("PRAGMA trusted_schema=OFF")
            self._log_ahead(db)
            _refuse_foreign_schema(db, path)
            found = db.execute("SELECT count(*) FROM sqlite_master WHERE name='meta'").fetchone()[0]
            if found:
                row = db.execute("SELECT value FROM meta WHERE key='version'").fetchone()
                version = int(row[0]) if row else VERSION
                if version > VERSION:
                    raise ProjectError(
                        "This project comes from a newer version of the program",
                        why=f"schema {version}, this one knows {VERSION}",
                        do="Update the program",
                        file=self.folder,
                    )
                if version < VERSION:
                    bring_up(db, path, version)
            db.executescript(SCHEMA)
            add_log_columns(db)
            db.execute("INSERT OR IGNORE INTO meta VALUES ('version', ?)", (str(VERSION),))
        except sqlite3.DatabaseError as error:
            db.close()
            if is_full(error, path) and path.stat().st_size:
                raise _NoRoom from error
            raise store_fault(error, path) from error
        except ValueError as error:  # words in it are no text
            db.close()
            raise damaged("it holds what is no text", path) from error
        except OSError as error:  # its backup cannot be made
            db.close()
            raise write_failed(error, path) from error
        except BaseException:
            db.close()
            raise
        return db

    def _log_ahead(self, db: sqlite3.Connection) -> None:
        """No gesture waits for the disk: this connection writes the log and never the store, and
        syncs neither. Checkpoints does both, and in that order, so that whatever the power cuts
        off is the end of the log. A disk that takes no such log (as some of a network) is waited
        for.
        """
        mode = db.execute("PRAGMA journal_mode=WAL").fetchone()[0]
        if mode == "wal":
            db.execute("PRAGMA synchronous=OFF")
            db.execute("PRAGMA wal_autocheckpoint=0")
        else:
            db.execute("PRAGMA synchronous=FULL")

    def load(self) -> ProjectState | None:
        """The current state; None for a new project. A copy of a store that is read well is kept.
        Raises ProjectError.
        """
        path = self.folder / "project.db"
        try:
            with self._guard:
                cursor = self._cursor()
                row = self._db.execute(
                    "SELECT CASE WHEN length(state) <= ? THEN state END FROM history WHERE seq=?",
                    (_MOST_STATE, cursor),
                ).fetchone()
                if row is None:
                    if cursor:
                        raise damaged("its current state is missing", path)
                    return None
                if row[0] is None:
                    raise damaged("its current state is far too long", path)
                state = ProjectState.model_validate_json(row[0])
                if not self.read_only:
                    keep_copy(self._db, path)
                return state
        except ValidationError as error:
            raise not_understood(error, path) from error
        except (ValueError, TypeError) as error:
            raise damaged("its place in the history is no number", path) from error
        except sqlite3.DatabaseError as error:
            raise store_fault(error, path) from error

    def append(
        self,
        label: str,
        state: ProjectState,
        merge: str | None = None,
        log_change: LogChange | None = None,
    ) -> ProjectState:
        """Add a state after the current one; what was undone before is dropped.

        With ``merge`` equal to the current row's, that row is replaced: one gesture, one entry.
        ``log_change`` edits the log in the same transaction; the state that comes back then stands
        on it.
        """
        with self._guard, self.transaction():
            cursor = self._cursor()
            row = self._db.execute(
                "SELECT merge, state FROM history WHERE seq=?", (cursor,)
            ).fetchone()
            if log_change is not None:
                state = self._edit(state, log_change)
                if row is not None and row[1] == state.model_dump_json():
                    return state  # nothing was changed: nothing to undo
            self._db.execute("DELETE FROM history WHERE seq>?", (cursor,))
            if merge is not None and row is not None and row[0] == merge:
                self._db.execute(
                    "UPDATE history SET state=?, label=? WHERE seq=?",
                    (state.model_dump_json(), label, cursor),
                )
                return state
            self._db.execute(
                "INSERT INTO history VALUES (?, ?, ?, ?)",
                (cursor + 1, label, merge, state.model_dump_json()),
            )
            if cursor + 1 > _KEPT:
                self._forget(cursor + 1 - _KEPT)
            self._set_cursor(cursor + 1)
        return state

    def _edit(self, state: ProjectState, log_change: LogChange) -> ProjectState:
        """Change the log's tables; the changes become the entry after the one that ``state`` stands
        on.
        """
        edit = Edit(self._db)
        log_change(edit)
        if not edit.changes:
            return state
        place = state.log.place
        self._db.execute("DELETE FROM log_changes WHERE seq>?", (place,))
        self._db.execute("INSERT INTO log_changes VALUES (?, ?)", (place + 1, pack(edit.changes)))
        return state.with_log_place(place + 1)

    def _forget(self, last: int) -> None:
        """Drop the oldest states, and the changes of the log that nobody can take back any more."""
        self._db.execute("DELETE FROM history WHERE seq<=?", (last,))
        oldest = self._db.execute("SELECT state FROM history ORDER BY seq LIMIT 1").fetchone()
        if oldest is not None:
            first = ProjectState.model_validate_json(oldest[0]).log.place
            self._db.execute("DELETE FROM log_changes WHERE seq<=?", (first,))

    def record(self, log_change: LogChange) -> bool:
        """Change the log's tables beside the history, as what arrives by itself; whether anything
        was changed.
        """
        with self._guard, self.transaction():
            edit = Edit(self._db)
            log_change(edit)
            return bool(edit.changes)

    @contextlib.contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        """The tables of what was measured or seen, which no gesture takes back: all of it or
        nothing.
        """
        with self._guard, self.transaction():
            yield self._db

    def rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[object, ...]]:
        """Rows of a table beside the history."""
        with self._guard:
            return self._db.execute(query, values).fetchall()

    def move(self, step: int) -> tuple[str, ProjectState] | None:
        """Go one state back (-1) or forward (+1): the label of what was undone or redone, and the
        state now.
        """
        with self._guard, self.transaction():
            cursor = self._cursor()
            rows = {
                r[0]: r
                for r in self._db.execute(
                    "SELECT seq, label, state FROM history WHERE seq IN (?, ?)",
                    (cursor, cursor + step),
                )
            }
            if cursor + step not in rows:
                return None
            here, there = (
                ProjectState.model_validate_json(rows[n][2]) for n in (cursor, cursor + step)
            )
            self._follow(here.log.place, there.log.place)
            self._set_cursor(cursor + step)
        return rows[cursor + step if step > 0 else cursor][1], there

    def _follow(self, here: int, there: int) -> None:
        """Bring the log's tables from one entry of the journal to another."""
        back = there < here
        order = "DESC" if back else "ASC"
        between = self._db.execute(
            f"SELECT seq FROM log_changes WHERE seq > ? AND seq <= ? ORDER BY seq {order}",
            (min(here, there), max(here, there)),
        ).fetchall()
        for (seq,) in between:
            row = self._db.execute("SELECT changes FROM log_changes WHERE seq=?", (seq,)).fetchone()
            apply(self._db, row[0], back=back)

    def neighbours(self) -> tuple[str | None, str | None]:
        """Labels of what undo and redo would do; None where there is nothing."""
        with self._guard:
            cursor = self._cursor()
            rows = dict(
                self._db.execute(
                    "SELECT seq, label FROM history WHERE seq BETWEEN ? AND ?",
                    (cursor - 1, cursor + 1),
                ).fetchall()
            )
        return (rows.get(cursor) if cursor - 1 in rows else None), rows.get(cursor + 1)

    def token(self) -> str | None:
        """What the person's own list knows this project by."""
        with self._guard:
            row = self._db.execute("SELECT value FROM meta WHERE key='token'").fetchone()
        return str(row[0]) if row else None

    def set_token(self, token: str) -> None:
        """Give the project another token."""
        with self._guard, self.transaction():
            self._db.execute("INSERT OR REPLACE INTO meta VALUES ('token', ?)", (token,))

    def known_hash(self, path: Path) -> str | None:
        """The hash of a file that has not changed since it was last read."""
        try:
            stat = path.stat()
        except OSError:
            return None
        with self._guard:
            row = self._db.execute(
                "SELECT size, mtime_ns, hash FROM known_files WHERE path=?", (str(path),)
            ).fetchone()
        return str(row[2]) if row and (row[0], row[1]) == (stat.st_size, stat.st_mtime_ns) else None

    def remember_hash(self, path: Path, digest: str) -> None:
        """Keep the hash of a file by its size and time."""
        stat = path.stat()
        with self._guard, contextlib.suppress(sqlite3.OperationalError):  # then it is read again
            self._db.execute(
                "INSERT OR REPLACE INTO known_files VALUES (?, ?, ?, ?)",
                (str(path), stat.st_size, stat.st_mtime_ns, digest),
            )

    def close(self) -> None:
        """Close the store, and let another window open the project."""
        if self._checkpoints is not None:
            self._checkpoints.stop()
        with self._guard:
            with contextlib.suppress(sqlite3.Error):  # closing brings the log into the store
                self._db.execute("PRAGMA synchronous=FULL")
            with contextlib.suppress(sqlite3.ProgrammingError):
                self._db.close()
        self._unlock()

    def _unlock(self) -> None:
        if self._lock is not None:
            self._lock.close()

    @property
    def still_there(self) -> bool:
        """Whether the folder that was opened lies where it lay."""
        if self._lock is None:
            return (self.folder / "project.db").is_file()
        try:
            here, opened = os.stat(self.folder / "lock"), os.fstat(self._lock.fileno())
        except OSError:
            return False
        return (here.st_dev, here.st_ino) == (opened.st_dev, opened.st_ino)

    def copy_to(self, folder: Path) -> None:
        """Save all of it in another folder, wherever its own went; the cache as links where the
        disk is the same. Raises ProjectError, WriteFailed.
        """
        target = folder.absolute()
        if target.exists():
            raise ProjectError(
                "The project cannot be saved there",
                why="something of that name exists",
                do="Give another name",
                file=target,
            )
        try:
            target.mkdir(mode=0o700)
            for name in _KEPT_FOLDERS:
                copy_plain(self.door, (name,), target / name, _link)
            with self._guard, contextlib.closing(sqlite3.connect(target / "project.db")) as db:
                self._db.backup(db)
        except (OSError, sqlite3.Error) as error:
            shutil.rmtree(target, ignore_errors=True)
            if isinstance(error, OSError):
                raise write_failed(error, target) from error
            raise store_fault(error, target / "project.db") from error

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All of it or nothing; no other window writes meanwhile."""
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")
        if self._checkpoints is not None:
            self._checkpoints.ask()

    def _cursor(self) -> int:
        row = self._db.execute("SELECT value FROM meta WHERE key='cursor'").fetchone()
        return int(row[0]) if row else 0

    def _set_cursor(self, cursor: int) -> None:
        self._db.execute("INSERT OR REPLACE INTO meta VALUES ('cursor', ?)", (str(cursor),))

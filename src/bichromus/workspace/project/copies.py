"""The last good copies of a project's store, made when it is opened well.

They are numbered by a counter and not by the clock: after a change of the time zone or of the clock
itself the highest number is still the newest copy.
"""

from __future__ import annotations

import os
import re
import sqlite3
from contextlib import closing, suppress
from pathlib import Path
from typing import Final

from .door import Door

FOLDER: Final = "copies"
_KEPT: Final = 3
_NUMBERED: Final = re.compile(r"copy-(\d{1,9})\.db")
_DATED: Final = re.compile(r"\d{4}-\d\d-\d\d-\d{6}\.db")
"""How older programs named copies, by local time: older than any that has a number."""


def copies_of(folder: Path) -> list[Path]:
    """Copies of the store of a project's folder, the newest last."""
    entries = [e.name for e in Door(folder).names(FOLDER) if e.is_file(follow_symlinks=False)]
    found = [n for n in entries if _NUMBERED.fullmatch(n) or _DATED.fullmatch(n)]
    return [folder / FOLDER / n for n in sorted(found, key=lambda n: (_number(n), n))]


def newest_copy(folder: Path) -> Path | None:
    """The newest copy; None where there is none."""
    found = copies_of(folder)
    return found[-1] if found else None


def keep_copy(db: sqlite3.Connection, path: Path) -> None:
    """Copy a store that was opened well, where its state is another one than that of the last copy;
    keep the newest three. A disk that refuses costs only the copy.
    """
    door = Door(path.parent)
    with suppress(OSError, sqlite3.Error):
        kept = copies_of(path.parent)
        if kept and _state(db) == _state_of(kept[-1]):
            return
        _tidy(door)
        number = _number(kept[-1].name) + 1 if kept else 1
        with door.writing(FOLDER, f"copy-{number}.db") as partial:
            back_up(db, partial)
        for old in copies_of(path.parent)[:-_KEPT]:
            old.unlink(missing_ok=True)


def back_up(db: sqlite3.Connection, target: Path) -> None:
    """Copy an open store into an empty file. Raises OSError, sqlite3.Error."""
    with closing(sqlite3.connect(target)) as copy:
        db.backup(copy)
        copy.execute("PRAGMA journal_mode=DELETE")  # one file, whole by itself
    os.chmod(target, 0o600)


def is_whole(path: Path) -> bool:
    """Whether a copy of a store can be read from its first page to its last."""
    try:
        with closing(_to_read(path)) as db:
            return bool(db.execute("PRAGMA quick_check").fetchone()[0] == "ok")
    except sqlite3.Error:
        return False


def _to_read(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True)


def _number(name: str) -> int:
    found = _NUMBERED.fullmatch(name)
    return int(found[1]) if found else 0


def _state(db: sqlite3.Connection) -> object:
    """What tells two states of a store apart: the newest entries of its history, where it stands,
    and what arrives beside it.
    """
    return db.execute(
        "SELECT (SELECT value FROM meta WHERE key='cursor'), max(seq), count(*), "
        "(SELECT state FROM history ORDER BY seq DESC LIMIT 1), (SELECT count(*) FROM subs), "
        "(SELECT count(*) FROM grades) FROM history"
    ).fetchone()


def _state_of(path: Path) -> object:
    """None for a copy that cannot be read: it is no reason to make none."""
    try:
        with closing(_to_read(path)) as db:
            return _state(db)
    except sqlite3.Error:
        return None


def _tidy(door: Door) -> None:
    """Take away what killed programs have left half-written."""
    for entry in door.names(FOLDER):
        if entry.name.startswith(".") and ".partial" in entry.name:
            Path(entry.path).unlink(missing_ok=True)

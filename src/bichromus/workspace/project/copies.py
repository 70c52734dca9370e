"""The last good copies of a project's store, made when it is opened well."""

from __future__ import annotations

import datetime as dt
import os
import sqlite3
from contextlib import closing, suppress
from pathlib import Path
from typing import Final

FOLDER: Final = "copies"
_KEPT: Final = 3
_NAME: Final = "????-??-??-??????.db"


def copies_of(folder: Path) -> list[Path]:
    """Copies of the store of a project's folder, the newest last."""
    place = folder / FOLDER
    if place.is_symlink() or not place.is_dir():
        return []
    return sorted(p for p in place.glob(_NAME) if p.is_file() and not p.is_symlink())


def newest_copy(folder: Path) -> Path | None:
    """The newest copy; None where there is none."""
    found = copies_of(folder)
    return found[-1] if found else None


def keep_copy(db: sqlite3.Connection, path: Path, now: dt.datetime) -> None:
    """Copy a store that was opened well, where it has changed since the last copy; keep the newest
    three. A disk that refuses costs only the copy.
    """
    place = path.parent / FOLDER
    last = newest_copy(path.parent)
    with suppress(OSError, sqlite3.Error):
        if last is not None and _changed(path) <= last.stat().st_mtime_ns:
            return
        place.mkdir(mode=0o700, exist_ok=True)
        if place.is_symlink():
            return
        partial = place / f".{os.getpid()}.partial"
        partial.unlink(missing_ok=True)
        with closing(sqlite3.connect(partial)) as copy:
            db.backup(copy)
        os.chmod(partial, 0o600)
        os.replace(partial, place / f"{now:%Y-%m-%d-%H%M%S}.db")
        for old in copies_of(path.parent)[:-_KEPT]:
            old.unlink(missing_ok=True)


def _changed(path: Path) -> int:
    """When a store was changed last, ns."""
    beside = [path, path.with_name(f"{path.name}-wal")]
    return max(p.stat().st_mtime_ns for p in beside if p.exists())

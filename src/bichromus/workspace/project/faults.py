"""What SQLite complains of, in sentences: a full disk is no damage."""

from __future__ import annotations

import contextlib
import shutil
import sqlite3
from pathlib import Path
from typing import Final

from pydantic import ValidationError

from ...core.files.foreign import why_of
from ...core.model.errors import ProjectError, WriteFailed
from ...core.model.visible import cut
from .copies import newest_copy

_ROOM: Final = 100_000
"""Bytes that a store and its journal need to be opened."""
_PRIMARY: Final = 0xFF  # the lower byte of an extended code is the code itself


def store_fault(error: sqlite3.Error, path: Path) -> ProjectError | WriteFailed:
    """An error of the store at ``path`` as one of ours."""
    code = getattr(error, "sqlite_errorcode", None)
    kind = code & _PRIMARY if code is not None else None
    if is_full(error, path):
        return WriteFailed(
            "The project cannot be written",
            why="there is no room left on the disk",
            do="Free some space, then open it again; nothing was lost",
            file=path,
        )
    if kind in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_AUTH):
        return ProjectError(
            "The project cannot be written",
            why="its folder or its disk is read-only",
            do="Copy the folder to a place that you may write to; totals and exports of the "
            "command line read it as it is",
            file=path,
        )
    if kind in (sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_IOERR):
        return ProjectError(
            "The project's store cannot be reached",
            why="the disk refuses to read or write it",
            do="Check the disk and the rights of the folder, then open it again",
            file=path,
        )
    if kind in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return ProjectError(
            "The project's store is in use",
            why="another program has locked it",
            do="Close that program first",
            file=path,
        )
    return damaged(cut(why_of(error).split(" - ")[0]), path)


def is_full(error: sqlite3.Error, path: Path) -> bool:
    """Whether there is no room left for the store at ``path``; what is beside the store may fail
    first, and SQLite then says that it could not be opened or written.
    """
    code = (getattr(error, "sqlite_errorcode", None) or 0) & _PRIMARY
    if code == sqlite3.SQLITE_FULL:
        return True
    if code not in (sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_IOERR):
        return False
    with contextlib.suppress(OSError):
        return shutil.disk_usage(path.parent).free < _ROOM
    return False


def not_understood(error: ValidationError, path: Path) -> ProjectError:
    """A state that does not fit: damaged, or written by a program that knows more than this one."""
    faults = error.errors()
    first = faults[0]
    where = ".".join(map(str, first["loc"])) or "its current state"
    if all(fault["type"] == "extra_forbidden" for fault in faults):
        return ProjectError(
            "This project comes from a newer version of the program",
            why=f"it holds {cut(where)}, which this one does not know",
            do="Update the program",
            file=path.parent,
        )
    return damaged(f"{cut(where)}: {cut(first['msg'])}", path)


def damaged(why: str, path: Path) -> ProjectError:
    """A store that is not whole, with the way out: its last good copy."""
    copy = newest_copy(path.parent)
    way = (
        f"Put {copy.relative_to(path.parent)}, its last good copy, in the place of {path.name}"
        if copy is not None
        else "Restore the folder from a backup"
    )
    return ProjectError(
        "The project's store is damaged",
        why=why,
        do=f"{way}; the stacks themselves are untouched",
        file=path,
    )

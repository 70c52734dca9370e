"""Files appear whole or not at all, and never over an input."""

from __future__ import annotations

import errno
import os
import secrets
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from glob import escape
from pathlib import Path
from typing import Final

from ..model.errors import OutputRefused, WriteFailed

_LEFT_S: Final = 3600.0
"""A half-written output that nobody has touched for so long was left by a killed program."""


def check_output(path: Path, overwrite: bool = False, inputs: Iterable[Path] = ()) -> Path:
    """The absolute path, once it is sure that it may be written. Raises OutputRefused."""
    path = Path(path).absolute()
    for source in inputs:
        with suppress(OSError):
            if path.exists() and source.exists() and path.samefile(source):
                raise OutputRefused(
                    "The output is one of the inputs", do="Choose another name", file=path
                )
    if not path.parent.is_dir():
        raise OutputRefused(
            "The folder of the output does not exist", do=f"Make {path.parent} first", file=path
        )
    if path.is_dir():
        raise OutputRefused("The output is a folder", do="Give a file name", file=path)
    if path.exists() and not overwrite:
        raise OutputRefused(
            "The output exists already", do="Choose another name, or allow overwriting", file=path
        )
    return path


@contextmanager
def atomic(path: Path, overwrite: bool = False, inputs: Iterable[Path] = ()) -> Iterator[Path]:
    """Yields a temporary path beside ``path``; renames it over ``path`` when the block ends well.

    Raises OutputRefused before anything is written, WriteFailed when the disk or the rights do not
    allow it.
    """
    path = check_output(path, overwrite, inputs)
    _tidy(path)
    partial = path.parent / f".{path.name}.{secrets.token_hex(6)}.partial"
    try:
        os.close(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o666))
        yield partial
        with open(partial, "rb") as handle:
            os.fsync(handle.fileno())
        os.replace(partial, path)
    except OSError as error:
        raise write_failed(error, path) from error
    finally:
        with suppress(OSError):
            partial.unlink(missing_ok=True)


def _tidy(path: Path) -> None:
    """Take away what killed programs have left of this output."""
    for left in path.parent.glob(f".{escape(path.name)}.*.partial"):
        with suppress(OSError):
            if time.time() - left.lstat().st_mtime > _LEFT_S:
                left.unlink()


def write_text(path: Path, text: str, overwrite: bool = False) -> None:
    """Write a text file atomically, UTF-8."""
    with atomic(path, overwrite) as partial:
        partial.write_text(text, "utf-8")


def write_failed(error: OSError, path: Path) -> WriteFailed:
    """An operating system's complaint as one of ours."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return WriteFailed(
            "The file could not be written",
            why="there is no room left for it",
            do="Free some space or choose another disk; nothing was lost",
            file=path,
        )
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return WriteFailed(
            "The file could not be written",
            why="this folder does not allow it",
            do="Choose another folder",
            file=path,
        )
    return WriteFailed(
        "The file could not be written",
        why=error.strerror or str(error),
        do="Choose another folder",
        file=path,
    )

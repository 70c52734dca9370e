"""Small text files of anybody: a pipe is never waited for, and nothing is read whole before its
size is known.
"""

from __future__ import annotations

import csv
import errno
import os
import stat
from collections.abc import Iterable
from pathlib import Path
from typing import Final

MOST_BYTES: Final = 16_000_000
"""The longest table or recipe that anybody has is a hundredth of this."""
_FORMULA: Final = ("=", "+", "-", "@", "\t", "\r")
"""How a cell begins that spreadsheets would reckon with."""


def read_text(path: Path, encoding: str = "utf-8", most: int = MOST_BYTES) -> str:
    """The text of a file. Raises OSError, for a pipe, a device and a file of more than ``most``
    bytes as well, and UnicodeDecodeError.
    """
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(handle, "rb") as file:
        found = os.fstat(handle)
        if stat.S_ISDIR(found.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "it is a pipe or a device", str(path))
        if found.st_size > most:
            raise OSError(errno.EFBIG, f"it holds {found.st_size:,} bytes, too many", str(path))
        text = file.read(most).decode(encoding)
    return text.replace("\r\n", "\n").replace("\r", "\n")


def cell(value: object) -> object:
    """What stands in a cell of a table that is written: a name that a spreadsheet would take for a
    formula is marked as text.
    """
    if not isinstance(value, str) or not value.startswith(_FORMULA) or _is_number(value):
        return value
    return f"'{value}"


def cell_text(text: str) -> str:
    """A cell as it was before ``cell``."""
    return text[1:] if text.startswith("'") and text[1:].startswith(_FORMULA) else text


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def csv_rows(lines: Iterable[str], delimiter: str = ",") -> list[list[str]]:
    """Cells of a table, without the blanks around them. Raises ValueError for what is no table."""
    try:
        return [
            [cell_text(c.strip()) for c in row] for row in csv.reader(lines, delimiter=delimiter)
        ]
    except csv.Error as error:
        raise ValueError(str(error)) from error

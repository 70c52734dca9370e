"""Readers of pictures: one module a format.

A module of this folder holds a ``READER`` and is found by itself: files that it recognises are
read, and its endings appear in file dialogs, in what a dropped folder gives, and in messages.
"""

from __future__ import annotations

from typing import Final

from ...model.registry import find_entries
from .base import Reader

__all__ = ["READERS", "Reader", "find_readers", "picture_patterns", "picture_suffixes", "titles"]


def find_readers(package: str = __name__) -> dict[str, Reader]:
    """The readers of a package's modules by id. Raises TypeError and ValueError as
    ``find_entries``.
    """
    return find_entries(package, "READER", Reader)


READERS: Final = find_readers()


def picture_suffixes() -> tuple[str, ...]:
    """Endings of pictures that can be opened, lower case."""
    return tuple(s for r in READERS.values() for s in r.suffixes)


def picture_patterns() -> str:
    """The same as patterns of a file dialog, as in ``*.fits *.tiff``."""
    return " ".join(f"*{s}" for s in picture_suffixes())


def titles(last: str = "or") -> str:
    """The formats in words, as in FITS, TIFF or PNG."""
    names = [r.title for r in READERS.values()]
    return f"{', '.join(names[:-1])} {last} {names[-1]}" if len(names) > 1 else names[0]

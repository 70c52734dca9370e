"""Readers of pictures: one module a format.

A module of this folder that holds a ``READER`` is in the registry: files that it recognises are
read, and its endings appear in file dialogs, in what a dropped folder gives, and in messages.
"""

from __future__ import annotations

import importlib
import pkgutil
from typing import Final

from .base import Reader

__all__ = ["READERS", "Reader", "find_readers", "picture_patterns", "picture_suffixes", "titles"]


def find_readers(package: str = __name__) -> dict[str, Reader]:
    """The readers of a package's modules by id. Raises TypeError for a READER that cannot read,
    ValueError for an id that is taken.
    """
    found: list[Reader] = []
    for info in pkgutil.iter_modules(importlib.import_module(package).__path__):
        reader = getattr(importlib.import_module(f"{package}.{info.name}"), "READER", None)
        if reader is None:
            continue
        if not isinstance(reader, Reader) or not callable(reader.read):
            raise TypeError(f"READER of {info.name} cannot read")
        found.append(reader)
    by_id = {r.id: r for r in sorted(found, key=lambda r: (r.order, r.id))}
    if len(by_id) < len(found):
        raise ValueError("two readers have one id")
    return by_id


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

"""What was computed and can be computed again: the folder ``cache`` of a project."""

from __future__ import annotations

import shutil
from collections.abc import Collection
from pathlib import Path
from typing import Final

MATCHES: Final = "matches"
"""Star lists and registrations: small, and slow to make again."""


def clear_cache(folder: Path, but: Collection[str] = ()) -> None:
    """Delete all of it, ``but`` what could not be computed again."""
    for entry in folder.iterdir():
        if entry.name not in but:
            shutil.rmtree(entry, ignore_errors=True)


def size_of(folder: Path, names: Collection[str]) -> int:
    """Bytes of some of its entries."""
    return sum(_size(folder / n) for n in names)


def bound_cache(folder: Path, most: int, used: Collection[str]) -> int:
    """Delete what was not used for longest until ``folder`` holds no more than ``most`` bytes; what
    is in ``used`` stays. What is left, in bytes.
    """
    entries = [(_last_used(e), _size(e), e) for e in folder.iterdir()]
    total = sum(size for _, size, _ in entries)
    for _, size, entry in sorted(entries, key=lambda e: e[0]):
        if total <= most:
            break
        if entry.name not in used and entry.name != MATCHES:
            shutil.rmtree(entry, ignore_errors=True)
            total -= size
    return total


def _size(entry: Path) -> int:
    try:
        return sum(f.stat().st_size for f in entry.rglob("*") if f.is_file())
    except OSError:
        return 0  # deleted meanwhile


def _last_used(entry: Path) -> float:
    try:
        return entry.stat().st_mtime
    except OSError:
        return 0.0

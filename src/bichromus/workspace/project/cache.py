"""What was computed and can be computed again: the folder ``cache`` of a project."""

from __future__ import annotations

import re
import shutil
from collections.abc import Collection
from pathlib import Path
from typing import Final

from ...core.files.foreign import FOREIGN
from .door import Door

MATCHES: Final = "matches"
"""Star lists and registrations: small, and slow to make again."""


DAMAGED: Final = FOREIGN
"""What reading an entry may raise that is not whole, which is then made anew: anything at all."""
_OURS: Final = re.compile(r"[0-9a-f]{24}|\.[0-9a-f]{24}\.\d+\.partial")
"""Names of entries: nothing else is ever deleted."""


def clear_cache(folder: Path, but: Collection[str] = ()) -> None:
    """Delete all of it, ``but`` what could not be computed again."""
    for entry in _entries(folder):
        if entry.name not in but:
            shutil.rmtree(entry, ignore_errors=True)
    for remembered in Door(folder.parent).names(folder.name, MATCHES):
        if remembered.name.endswith(".npz"):
            Path(remembered.path).unlink(missing_ok=True)


def _entries(folder: Path) -> list[Path]:
    """The folders of prepared channels; nothing else that lies there, and none where the cache is
    gone.
    """
    found = Door(folder.parent).names(folder.name)
    return [
        folder / e.name
        for e in found
        if _OURS.fullmatch(e.name) and e.is_dir(follow_symlinks=False)
    ]


def size_of(folder: Path, names: Collection[str]) -> int:
    """Bytes of some of its entries."""
    return sum(_size(folder, n) for n in names)


def bound_cache(folder: Path, most: int, used: Collection[str]) -> int:
    """Delete what was not used for longest until ``folder`` holds no more than ``most`` bytes; what
    is in ``used`` stays. What is left, in bytes.
    """
    entries = [(_last_used(e), _size(folder, e.name), e) for e in _entries(folder)]
    total = sum(size for _, size, _ in entries) + _size(folder, MATCHES)
    for _, size, entry in sorted(entries, key=lambda e: e[0]):
        if total <= most:
            break
        if entry.name not in used:
            shutil.rmtree(entry, ignore_errors=True)
            total -= size
    return total


def _size(folder: Path, name: str) -> int:
    return Door(folder.parent).size(folder.name, name)


def _last_used(entry: Path) -> float:
    try:
        return entry.stat().st_mtime
    except OSError:
        return 0.0

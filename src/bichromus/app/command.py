"""What can be done, with its key: for shortcuts, the search and the sheet of keys."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


def always() -> bool:
    """A command that can be done at any time."""
    return True


@dataclass(frozen=True)
class Command:
    """Something that can be done: how it is called, its key, what it does, and whether it can be
    done now. ``group`` holds words that find it.
    """

    id: str
    title: str
    key: str
    run: Callable[[], object]
    group: str = ""
    ready: Callable[[], bool] = always

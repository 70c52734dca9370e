"""Packages whose names come from their modules when they are first asked for: a call that needs one
of them does not wait for all.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module


def lazily(package: str, places: Mapping[str, str]) -> Callable[[str], object]:
    """The ``__getattr__`` of a package: ``places`` maps each name to the module that has it, as in
    ``.read``. It raises AttributeError for any other name.
    """

    def find(name: str) -> object:
        place = places.get(name)
        if place is None:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        value = getattr(import_module(place, package), name)
        setattr(sys.modules[package], name, value)
        return value

    return find

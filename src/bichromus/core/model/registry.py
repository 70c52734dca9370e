"""Registries: what the modules of one package hold, found by itself. One module an entry."""

from __future__ import annotations

import dataclasses
import importlib
import pkgutil
from collections.abc import Collection
from typing import Protocol, TypeVar

HELPERS = ("base",)
"""Modules of such a package that are no entries: what all of them stand on."""


class Entry(Protocol):
    """What every entry has: a name that is its own, and its place in the order."""

    @property
    def id(self) -> str:
        """Its name."""
        ...

    @property
    def order(self) -> int:
        """Lower comes first."""
        ...


E = TypeVar("E", bound=Entry)


def find_entries(
    package: str, name: str, kind: type[E], helpers: Collection[str] = HELPERS
) -> dict[str, E]:
    """The entries of a package by id, in their order. Each module holds one or a tuple of them
    under ``name``.

    Raises TypeError for a module that holds none, for something that is no ``kind``, or lacks one
    of its functions; ValueError for an id that is taken.
    """
    found: list[E] = []
    for info in pkgutil.iter_modules(importlib.import_module(package).__path__):
        if info.name in helpers:
            continue
        held = getattr(importlib.import_module(f"{package}.{info.name}"), name, None)
        own = held if isinstance(held, tuple) else (held,)
        if not own or not all(isinstance(entry, kind) for entry in own):
            raise TypeError(f"{package}.{info.name} holds no {kind.__name__} as {name}")
        for entry in own:
            _check_functions(entry)
        found += own
    by_id = {entry.id: entry for entry in sorted(found, key=lambda e: (e.order, e.id))}
    if len(by_id) < len(found):
        raise ValueError(f"two entries of {package} have one id")
    return by_id


def _check_functions(entry: Entry) -> None:
    """Each field of an entry that is declared as a function is one: else it would be missed only
    when it is called. Raises TypeError.
    """
    for field in dataclasses.fields(entry):  # type: ignore[arg-type]
        if str(field.type).startswith("Callable") and not callable(getattr(entry, field.name)):
            raise TypeError(f"{field.name} of {entry.id} is no function")

"""Versions in words: when they were kept, how they differ from the one before."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Sequence
from typing import Any, Final

from ....core.blend.difference import differences
from ....core.model.recipe import Recipe
from ....workspace.project.state import LaidState, VersionState
from ....workspace.versions.compare import laid_words
from ...widgets.text import clock_text
from .wall import Hung

_TOLD = 2  # differences that are told under a picture


def when_text(made: str) -> str:
    """The day and the time of day, in the person's own time zone."""
    try:
        at = dt.datetime.fromisoformat(made).astimezone()
    except ValueError:
        return made
    return f"{at.day} {at:%B %Y}, {at:%H:%M}"


ORDERS: Final = {
    "kept": "as they were kept",
    "newest": "the newest first",
    "favourites": "favourites first",
    "name": "by name",
    "hours": "most data first",
    "noise": "least noise first",
}
"""Ways to hang the wall."""


def hung(
    versions: Sequence[VersionState],
    recipes: dict[str, Recipe],
    stale: dict[str, list[str]],
    order: str = "kept",
) -> list[Hung]:
    """What hangs on the wall; each told by what differs from the one that was kept before it."""
    out = {}
    before: VersionState | None = None
    for version in versions:
        changed = stale.get(version.name, [])
        when = f"{when_text(version.made)}   {_data(version)}"
        kept = f"{', '.join(changed)} changed since" if changed else when
        own = _step(before, version, recipes) if version.laid is None else _laid(version.laid)
        lines = [*own, kept, version.note]
        out[version.name] = Hung(
            version.name,
            version.recipe,
            tuple(line for line in lines if line),
            version.favourite,
        )
        if version.laid is None:
            before = version
    return [out[v.name] for v in in_order(versions, order)]


def in_order(versions: Sequence[VersionState], order: str) -> list[VersionState]:
    """Versions as they are to hang; alike ones as they were kept."""
    keys: dict[str, Callable[[VersionState], Any]] = {
        "favourites": lambda v: not v.favourite,
        "name": lambda v: v.name.casefold(),
        "hours": lambda v: -v.hours,
        "noise": lambda v: v.noise if v.noise is not None else math.inf,
    }
    if order == "newest":
        return list(reversed(versions))
    return sorted(versions, key=keys[order]) if order in keys else list(versions)


def _laid(laid: LaidState) -> list[str]:
    return [f"from elsewhere: {laid.file}", laid_words(laid)]


def _data(version: VersionState) -> str:
    return f"{clock_text(version.hours)} of data" if version.hours else ""


def _step(before: VersionState | None, now: VersionState, recipes: dict[str, Recipe]) -> list[str]:
    """What differs from the one before, a line each."""
    if before is None:
        return ["the first"]
    if before.recipe not in recipes or now.recipe not in recipes:
        return []
    found = differences(recipes[before.recipe], recipes[now.recipe])
    more = len(found) - _TOLD
    lines = found[:_TOLD] or ["as the one before"]
    return [*lines[:-1], f"{lines[-1]}, {more} more"] if more > 0 else lines

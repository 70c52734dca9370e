"""Versions in words: when they were kept, how they differ from the one before."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from ....core.blend.difference import differences
from ....core.model.recipe import Recipe
from ....workspace.project.state import VersionState
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


def hung(
    versions: Sequence[VersionState], recipes: dict[str, Recipe], stale: dict[str, list[str]]
) -> list[Hung]:
    """What hangs on the wall, in the order in which it was kept."""
    out = []
    before: VersionState | None = None
    for version in versions:
        changed = stale.get(version.name, [])
        when = f"{when_text(version.made)}   {_data(version)}"
        kept = f"{', '.join(changed)} changed since: shown as kept" if changed else when
        lines = [*_step(before, version, recipes), kept, version.note]
        out.append(
            Hung(
                version.name,
                version.recipe,
                tuple(line for line in lines if line),
                version.favourite,
            )
        )
        before = version
    return out


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

"""Exposure of each target of the log, kept apart by the names that the subs carry."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..library.things import TargetThing
from ..planning.held import Shot
from .channel_time import ChannelTime, channel_times, shot_with
from .sub import Sub


def times_by_target(
    subs: Iterable[Sub], targets: Sequence[TargetThing]
) -> dict[str, dict[str, ChannelTime]]:
    """Of kept subs, by target and channel; an alias is the target."""
    return {name: channel_times(mine) for name, mine in _apart(subs, targets).items()}


def shot_by_target(
    subs: Iterable[Sub], targets: Sequence[TargetThing]
) -> dict[str, dict[str, tuple[Shot, ...]]]:
    """The same, with what they were shot."""
    return {name: shot_with(mine) for name, mine in _apart(subs, targets).items()}


def _apart(subs: Iterable[Sub], targets: Sequence[TargetThing]) -> dict[str, list[Sub]]:
    names = {n.casefold(): t.name for t in targets for n in (t.name, *t.aliases)}
    groups: dict[str, list[Sub]] = {}
    for sub in subs:
        name = names.get(sub.object_name.casefold())
        if name is not None:
            groups.setdefault(name, []).append(sub)
    return groups

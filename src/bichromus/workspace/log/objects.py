"""Exposure of each target of the log, kept apart by the names that the subs carry."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..library.things import TargetThing
from .channel_time import ChannelTime, channel_times
from .sub import Sub


def times_by_target(
    subs: Iterable[Sub], targets: Sequence[TargetThing]
) -> dict[str, dict[str, ChannelTime]]:
    """Of kept subs, by target and channel; an alias is the target."""
    names = {n.casefold(): t.name for t in targets for n in (t.name, *t.aliases)}
    groups: dict[str, list[Sub]] = {}
    for sub in subs:
        name = names.get(sub.object_name.casefold())
        if name is not None:
            groups.setdefault(name, []).append(sub)
    return {name: channel_times(mine) for name, mine in groups.items()}

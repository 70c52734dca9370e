"""Exposure of each channel: a sub behind a filter of several bands counts for each of its lines,
and what was shot since the stacks were made comes on top of them.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from ...core.model.channel import channel_order
from ..planning.held import Shot
from .sub import Sub


@dataclass(frozen=True)
class ChannelTime:
    """Seconds kept of a channel: behind a filter of its own, and of several bands."""

    own: float = 0.0
    dual: float = 0.0

    @property
    def hours(self) -> float:
        """All of it."""
        return (self.own + self.dual) / 3600


def channel_times(subs: Iterable[Sub]) -> dict[str, ChannelTime]:
    """Of kept subs, by channel in the usual order."""
    out: dict[str, ChannelTime] = {}
    for sub in subs:
        if not sub.kept or not sub.channel:
            continue
        lines = sub.channel.split("+")
        for line in lines:
            now = out.get(line, ChannelTime())
            if len(lines) > 1:
                out[line] = replace(now, dual=now.dual + sub.seconds)
            else:
                out[line] = replace(now, own=now.own + sub.seconds)
    return {name: out[name] for name in sorted(out, key=channel_order)}


def shot_with(subs: Iterable[Sub]) -> dict[str, tuple[Shot, ...]]:
    """Of kept subs, by channel, the hours with each telescope behind each kind of filter."""
    sums: dict[str, dict[tuple[str, str, str], float]] = {}
    for sub in subs:
        if sub.kept and sub.channel:
            what = sub.telescope, sub.contributor, sub.channel
            for line in sub.channel.split("+"):
                of_line = sums.setdefault(line, {})
                of_line[what] = of_line.get(what, 0.0) + sub.seconds / 3600
    return {c: tuple(Shot(*w, h) for w, h in found.items()) for c, found in sums.items()}


def since(subs: Iterable[Sub], until: Mapping[str, str]) -> dict[str, float]:
    """Hours of each channel that were shot after the moment (ISO 8601, UTC) until which its stacks
    hold what there is; channels without one are left out.
    """
    moments = {name: found for name, text in until.items() if (found := _moment(text)) is not None}
    out = dict.fromkeys(moments, 0.0)
    for sub in subs:
        if sub.kept and sub.channel:
            begun = _begun(sub)
            for line in sub.channel.split("+"):
                if line in moments and begun > moments[line]:
                    out[line] += sub.seconds / 3600
    return out


def _begun(sub: Sub) -> dt.datetime:
    """When a sub was begun; of one that was typed the evening of its night."""
    return sub.start or dt.datetime.combine(sub.night, dt.time(18), dt.UTC)


def _moment(text: str) -> dt.datetime | None:
    try:
        found = dt.datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo else found.replace(tzinfo=dt.UTC)

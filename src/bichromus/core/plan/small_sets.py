"""Sets that are wanted for less than an hour, as R, G and B for the stars' colours: shot whole and
in one stretch where a night holds that.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from .slots import Key
from .through import ChannelPlan, Through

SMALL_H: Final = 1.0
"""Hours missing below which a set is small."""
_TURNS: Final = 2  # in which each set is shot: a cloud leaves some of every colour
Room = tuple[float, Mapping[Key, Mapping[str, float]]]
"""Hours of a stretch by the clock, and what an hour of open shutter brings there."""


@dataclass(frozen=True)
class SmallSets:
    """Subs of a target by filter that a station shoots in the stretch of a number, in ``hours`` by
    the clock; without a stretch where none holds all of them, with the hours that they want.
    """

    target: str
    station: str
    stretch: int | None
    counts: Mapping[str, int]
    hours: float

    def order(self) -> list[Key]:
        """Sub by sub, in turns."""
        left, out = dict(self.counts), []
        for turn in range(_TURNS, 0, -1):
            for name in left:
                now = math.ceil(left[name] / turn)
                out += [(self.target, name)] * now
                left[name] -= now
        return out


def small_filters(
    plans: Sequence[ChannelPlan], throughs: Sequence[Through]
) -> tuple[dict[str, Through], set[str]]:
    """Of a station and a target: the filters of the channels that are wanted for less than an hour,
    and these channels. A filter that serves one which is wanted for more is none of them.
    """
    small = {p.channel for p in plans if 0 < p.missing_h < SMALL_H and p.per_hour > 0}
    large = {p.channel for p in plans if p.missing_h >= SMALL_H}
    filters: dict[str, Through] = {}
    served: set[str] = set()
    for channel in (p.channel for p in plans if p.channel in small):
        fit = [t for t in throughs if channel in t.channels and not large & set(t.channels)]
        if fit:
            best = max(fit, key=lambda t: t.alone[channel])
            filters[best.filter] = best
            served.add(channel)
    return filters, served


def whole_sets(
    filters: Mapping[str, Through],
    missing: Mapping[str, float],
    stretches: Sequence[Room],
    efficiency: float,
) -> list[SmallSets]:
    """The sets of a station and a target that fit in whole, and those that do not: the one that
    wants most is left out first. ``missing`` is SNR squared by channel.
    """
    left = dict(filters)
    out: dict[str, Through] = {}
    while left:
        found = best_stretch(left, missing, stretches, efficiency)
        if found.stretch is not None:
            rest = [best_stretch(out, missing, [], efficiency)] if out else []
            return [found, *rest]
        most = max(left, key=lambda f: found.counts.get(f, 0) * left[f].sub.sub_s)
        out[most] = left.pop(most)
    return [best_stretch(filters, missing, [], efficiency)]


def best_stretch(
    filters: Mapping[str, Through],
    missing: Mapping[str, float],
    stretches: Sequence[Room],
    efficiency: float,
) -> SmallSets:
    """Where sets fit in whole, in the sky that is best for them."""
    one = next(iter(filters.values()))
    best: SmallSets | None = None
    for number, (hours, gains) in enumerate(stretches):
        counts = _counts(filters, missing, gains)
        if counts is None:
            continue
        clock = sum(n * filters[f].sub.sub_s for f, n in counts.items()) / 3600 / efficiency
        if clock <= hours and (best is None or clock < best.hours):
            best = SmallSets(one.aim, one.station, number, counts, clock)
    if best is not None:
        return best
    dark = {(t.aim, f): t.alone for f, t in filters.items()}
    counts = _counts(filters, missing, dark) or {}
    wanted = sum(n * filters[f].sub.sub_s for f, n in counts.items()) / 3600 / efficiency
    return SmallSets(one.aim, one.station, None, counts, wanted)


def _counts(
    filters: Mapping[str, Through],
    missing: Mapping[str, float],
    gains: Mapping[Key, Mapping[str, float]],
) -> dict[str, int] | None:
    """Subs of each filter until nothing is missing; None where one brings nothing."""
    out = {}
    for name, t in filters.items():
        here = gains.get((t.aim, name), {})
        rates = {c: here.get(c, 0.0) for c in t.channels if c in missing}
        if not rates or min(rates.values()) <= 0:
            return None
        hours = max(missing[c] / rate for c, rate in rates.items())
        out[name] = max(math.ceil(hours * 3600 / t.sub.sub_s - 0.1), 1)
    return out

"""A night's hours laid in time: blocks of one target through one filter, each in the hours that are
best for it, with the overheads of focus, filter, flip and hand-over.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import groupby, permutations
from typing import Final

import numpy as np

from .order import Overheads, run_through, sequence
from .slots import Curves, Key

_BLOCK_H: Final = 0.5
"""Hours below which a block is not worth its change of filter and focus."""
_GOES_ON: Final = (1e-6, 0.01)
"""What it is worth to go on with a target and with a filter, as a share of what a run brings: a
change costs a minute or more.
"""
_MOST_ORDERS: Final = 6
"""Blocks of a run of which every order is tried; of more those of the targets."""


@dataclass(frozen=True)
class Block:
    """Subs of a target through a filter in a row; UTC Julian days."""

    target: str
    filter: str
    channels: tuple[str, ...]
    start: float
    end: float
    subs: int
    sub_s: float

    @property
    def hours(self) -> float:
        """Hours of open shutter."""
        return self.subs * self.sub_s / 3600


def without_crumbs(uses: Mapping[Key, float]) -> dict[Key, float]:
    """Hours of a run by what is shot, those too short for a block given to the longest one."""
    whole = {k: h for k, h in uses.items() if h >= _BLOCK_H}
    if not whole:
        return {max(uses, key=lambda k: uses[k]): sum(uses.values())} if uses else {}
    longest = max(whole, key=lambda k: whole[k])
    whole[longest] += sum(h for k, h in uses.items() if k not in whole)
    return whole


def best_order(
    uses: Mapping[Key, float],
    curves: Sequence[Curves],
    goals: Mapping[tuple[str, str], float],
    before: Key,
    small: Collection[Key] = (),
) -> list[Key]:
    """The order of a run's blocks in which each is shot when it brings most of its ``goals`` (SNR
    by target and channel), targets kept together, ``small`` sets first of their target, what was
    shot ``before`` first where that costs hardly anything.
    """
    keys = list(uses)
    if len(keys) < 2:
        return keys
    value = {k: _value(k, curves, goals) for k in keys}
    sums = {k: [0.0, *np.cumsum(v).tolist()] for k, v in value.items()}
    steps = len(next(iter(value.values())))
    per_step = sum(uses.values()) / steps

    def worth(order: Sequence[Key]) -> float:
        at, gained = 0.0, 0.0
        for key in order:
            first, last = round(at / per_step), round((at + uses[key]) / per_step)
            if last > first:
                gained += (sums[key][last] - sums[key][first]) / (last - first) * uses[key]
            at += uses[key]
        going_on = _GOES_ON[0] * (order[0][0] == before[0]) + _GOES_ON[1] * (order[0] == before)
        return gained * (1 + going_on)

    return max(_orders(keys, value, set(small)), key=worth)


def _orders(
    keys: Sequence[Key], value: Mapping[Key, np.ndarray], small: set[Key]
) -> list[list[Key]]:
    """Orders to be tried: all that keep targets together and small sets first; of many blocks those
    of the targets, each one's blocks by when they bring most.
    """
    if len(keys) <= _MOST_ORDERS:
        return [list(o) for o in permutations(keys) if _together(o) and _small_first(o, small)]
    targets = list(dict.fromkeys(k[0] for k in keys))
    groups = {
        t: sorted((k for k in keys if k[0] == t), key=lambda k: (k not in small, _when(value[k])))
        for t in targets
    }
    return [[k for t in order for k in groups[t]] for order in permutations(targets)]


def _when(value: np.ndarray) -> float:
    """The middle of the steps by what they bring."""
    whole = float(value.sum())
    return float((value * np.arange(len(value))).sum() / whole) if whole > 0 else 0.0


def _small_first(order: Sequence[Key], small: set[Key]) -> bool:
    seen: set[str] = set()
    for key in order:
        if key in small and key[0] in seen:
            return False
        if key not in small:
            seen.add(key[0])
    return True


def _value(
    key: Key, curves: Sequence[Curves], goals: Mapping[tuple[str, str], float]
) -> np.ndarray:
    """The share of its goals that a filter brings in an hour, through a run."""
    parts = []
    for c in curves:
        value = np.zeros(len(c.utc))
        for channel, gain in c.gains.get(key, {}).items():
            goal = goals.get((key[0], channel))
            value += gain / goal**2 if goal else 0.0
        parts.append(value)
    return np.concatenate(parts)


def _together(order: Sequence[Key]) -> bool:
    targets = [t for t, _ in groupby(k[0] for k in order)]
    return len(targets) == len(set(targets))


@dataclass(frozen=True)
class Filtered:
    """How a filter is shot: its channels and the seconds of its subs."""

    channels: tuple[str, ...]
    sub_s: float


def subs_of(hours: Mapping[Key, float], how: Mapping[Key, Filtered]) -> dict[Key, int]:
    """Subs of each block."""
    found = {k: math.ceil(h * 3600 / how[k].sub_s - 0.1) for k, h in hours.items()}
    return {k: n for k, n in found.items() if n > 0}


def order_of(counts: Mapping[Key, int], every: int | None) -> list[Key]:
    """Sub by sub: filters one after the other, or of each target in turns of ``every``."""
    out: list[Key] = []
    for target, keys in groupby(counts, key=lambda k: k[0]):
        by_name = {f: counts[target, f] for _, f in keys}
        out += [(target, f) for f in sequence(by_name, every)]
    return out


def blocks_of(
    start: float,
    end: float,
    order: Sequence[Key],
    how: Mapping[Key, Filtered],
    overheads: Overheads,
    flips: Mapping[str, float | None],
) -> list[Block]:
    """A run laid out sub by sub in ``order``, as far as it reaches. ``flips`` are the moments at
    which targets cross the meridian.
    """
    out: list[Block] = []
    clock = start
    for target, group in groupby(order, key=lambda k: k[0]):
        if out:
            clock += overheads.hand_over_s / 86400
        names = [f for _, f in group]
        flip = flips.get(target)
        flip_s = (flip - clock) * 86400 if flip is not None and clock < flip < end else None
        lengths = {f: how[target, f].sub_s for f in names}
        for shot in run_through(names, lengths, overheads, flip_s):
            a, b = clock + shot.start_s / 86400, clock + shot.end_s / 86400
            if b > end + 1e-9:
                return out
            last = out[-1] if out else None
            flipped = flip is not None and last is not None and last.end <= flip < a
            same = last is not None and (last.target, last.filter) == (target, shot.channel)
            if last is not None and same and not flipped:
                out[-1] = replace(last, end=b, subs=last.subs + 1)
            else:
                filtered = how[target, shot.channel]
                out.append(Block(target, shot.channel, filtered.channels, a, b, 1, filtered.sub_s))
        clock = out[-1].end if out else clock
    return out

"""Tonight, the first night of a plan: small sets whole, the hours that the program gives, what is
left of a clear night, laid in time for each station.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from statistics import median
from typing import Final

from .laying import Block, Filtered, best_order, blocks_of, order_of, subs_of, without_crumbs
from .night import Night, hidden, plan_night
from .sharing import OpenWindow, Shared
from .slots import Curves, Key, Slot, curves_of
from .small_sets import SmallSets, small_filters, whole_sets
from .station import Aim, Span, Station
from .stretches import Stretch, runs_of, stretches_of
from .through import ChannelPlan, Through

MISSING_H: Final = 0.02
"""Hours below which a goal counts as reached: a sub or less."""
_NO_HOUR: Final = 1e-6
_USUAL_SUB_S: Final = 300.0
Cell = tuple[str, str]
"""A target and a channel."""


@dataclass(frozen=True)
class Need:
    """A channel of a target: its plan, and SNR squared that is wanted and held."""

    plan: ChannelPlan
    goal: float
    had: float


@dataclass(frozen=True)
class Lane:
    """A station's night: the nights of its targets, its stretches with what filters bring there,
    the share of its time with the shutter open, and its blocks.
    """

    station: Station
    nights: Mapping[str, Night]
    stretches: tuple[Stretch, ...]
    curves: tuple[Curves, ...]
    efficiency: float
    blocks: tuple[Block, ...] = ()

    @cached_property
    def hidden(self) -> tuple[tuple[float, float], ...]:
        """When it sees none of its targets; told once, for it is asked for with every painting."""
        return hidden(self.nights.values(), self.station.rules)


def lane_of(
    station: Station,
    aims: Sequence[Aim],
    throughs: Sequence[Through],
    date: dt.date,
    cloudy: Sequence[Span],
    since: float | None = None,
) -> Lane:
    """A station's night, nothing laid yet; from a moment on where one is given."""
    nights = {a.name: plan_night(station.place, date, a.target, station.rules) for a in aims}
    awake = station.awake.get(date)
    if since is not None:
        start, end = awake or (since, math.inf)
        awake = max(start, since), end
    stretches = stretches_of(nights, cloudy, awake)
    mine = [t for t in throughs if t.station == station.name]
    curves = tuple(curves_of(station, aims, mine, s) for s in stretches)
    return Lane(station, nights, tuple(stretches), curves, _efficiency(station, throughs))


def _efficiency(station: Station, throughs: Sequence[Through]) -> float:
    """Share of the time with the shutter open in the usual sub of a station."""
    lengths = [t.sub.sub_s for t in throughs if t.station == station.name]
    return station.overheads.open_share(median(lengths) if lengths else _USUAL_SUB_S)


def small_sets_of(
    lanes: Sequence[Lane], throughs: Sequence[Through], needs: Mapping[Cell, Need]
) -> list[list[SmallSets]]:
    """By lane the small sets that it shoots whole; those that fit nowhere stand with the first
    that serves them.
    """
    out: list[list[SmallSets]] = [[] for _ in lanes]
    for target in dict.fromkeys(t for t, _ in needs):
        plans = [w.plan for (t, _), w in needs.items() if t == target]
        found: list[tuple[int, list[SmallSets]]] = []
        for n, lane in enumerate(lanes):
            mine = [t for t in throughs if (t.station, t.aim) == (lane.station.name, target)]
            filters, served = small_filters(plans, mine)
            if not filters:
                continue
            missing = {c: needs[target, c].goal - needs[target, c].had for c in served}
            rooms = [
                (hours, c.means) for hours, c in zip(_free(lane, out[n]), lane.curves, strict=True)
            ]
            found.append((n, whole_sets(filters, missing, rooms, lane.efficiency)))
        if found:  # where most of them fit, in the fewest hours
            n, sets = min(found, key=lambda f: _cost(f[1]))
            out[n] += sets
    return out


def _cost(sets: Sequence[SmallSets]) -> tuple[int, float]:
    """Sets that are left out, and the hours of the others."""
    left = sum(len(x.counts) for x in sets if x.stretch is None)
    return left, sum(x.hours for x in sets if x.stretch is not None)


def served_whole(small: Sequence[Sequence[SmallSets]], throughs: Sequence[Through]) -> set[Cell]:
    """Channels that small sets shoot whole tonight."""
    filters = {
        (x.station, x.target, f)
        for sets in small
        for x in sets
        if x.stretch is not None
        for f in x.counts
    }
    return {
        (t.aim, c) for t in throughs if (t.station, t.aim, t.filter) in filters for c in t.channels
    }


def _free(lane: Lane, sets: Sequence[SmallSets]) -> list[float]:
    """Hours by the clock of each stretch that small sets leave."""
    taken = [sum(x.hours for x in sets if x.stretch == n) for n in range(len(lane.stretches))]
    return [max(s.hours - t, 0.0) for s, t in zip(lane.stretches, taken, strict=True)]


def tonight_slots(lane: Lane, sets: Sequence[SmallSets], date: dt.date) -> list[Slot]:
    """A lane's stretches as windows of the program, less what small sets take."""
    out = []
    for n, hours in enumerate(_free(lane, sets)):
        window = OpenWindow(_name(lane, n), lane.station.name, hours, lane.efficiency)
        out.append(Slot(window, date, lane.stretches[n].moonlit, lane.curves[n].means))
    return out


def _name(lane: Lane, number: int) -> str:
    return f"{lane.station.name} tonight {number}"


def laid_out(
    lanes: Sequence[Lane],
    small: Sequence[Sequence[SmallSets]],
    shared: Shared | None,
    needs: Mapping[Cell, Need],
    throughs: Sequence[Through],
    every: int | None,
    mix: Mapping[tuple[str, bool], Mapping[Key, float]],
    current: Key | None = None,
) -> list[Lane]:
    """The lanes with their blocks. In turns of ``every`` each sky of tonight is shared out as all
    of its kind are: ``mix`` are hours by station and whether the Moon is up. ``current`` is what
    the first station shoots already.
    """
    goals = {cell: w.goal**0.5 for cell, w in needs.items() if w.goal > 0}
    whole = served_whole(small, throughs)
    missing = {c: 0.0 if c in whole else needs[c].goal - needs[c].had for c in goals}
    uses = [_uses(lane, shared) for lane in lanes]
    if every is not None:
        uses = [_mixed(lane, hours, mix) for lane, hours in zip(lanes, uses, strict=True)]
    for lane, hours in zip(lanes, uses, strict=True):
        for curves, use in zip(lane.curves, hours, strict=True):
            _take(curves.means, use, missing)
    out: list[Lane] = []
    for lane, sets, hours in zip(lanes, small, uses, strict=True):
        _fill(lane, _free(lane, sets), hours, _best_rates(lane, throughs), missing)
        before = current if current is not None and not out else ("", "")
        out.append(_laid(lane, sets, hours, goals, throughs, every, before))
    return out


def _uses(lane: Lane, shared: Shared | None) -> list[dict[Key, float]]:
    """Hours of open shutter that the program gives each stretch."""
    found = shared.uses if shared is not None else {}
    return [
        {(u.target, u.filter): u.hours for u in found.get(_name(lane, n), ())}
        for n in range(len(lane.stretches))
    ]


def _mixed(
    lane: Lane,
    uses: Sequence[Mapping[Key, float]],
    mix: Mapping[tuple[str, bool], Mapping[Key, float]],
) -> list[dict[Key, float]]:
    """Hours of each stretch, shared among all that is shot under such a sky in the coming nights:
    so every night that is clear leaves something of all of it.
    """
    out = []
    for stretch, curves, use in zip(lane.stretches, lane.curves, uses, strict=True):
        parts = mix.get((lane.station.name, stretch.moonlit), {})
        parts = {k: h for k, h in parts.items() if k in curves.gains}
        whole, hours = sum(parts.values()), sum(use.values())
        out.append({k: h / whole * hours for k, h in parts.items()} if whole else dict(use))
    return out


def _take(
    mean: Mapping[Key, Mapping[str, float]], use: Mapping[Key, float], missing: dict[Cell, float]
) -> None:
    """Take off what hours bring."""
    for key, hours in use.items():
        for channel, gain in mean.get(key, {}).items():
            if (key[0], channel) in missing:
                missing[key[0], channel] -= gain * hours


def _best_rates(lane: Lane, throughs: Sequence[Through]) -> dict[Cell, float]:
    """What a dark hour of a station's best filter brings to each channel."""
    out: dict[Cell, float] = {}
    for t in (t for t in throughs if t.station == lane.station.name):
        for channel, rate in t.alone.items():
            out[t.aim, channel] = max(out.get((t.aim, channel), 0.0), rate)
    return out


def _fill(
    lane: Lane,
    free: Sequence[float],
    uses: Sequence[dict[Key, float]],
    dark: Mapping[Cell, float],
    missing: dict[Cell, float],
) -> None:
    """Hours that the program leaves free tonight go to what spares most hours in the dark by then:
    a clear night in hand is worth more than one that is hoped for.
    """
    for clock, use, curves in zip(free, uses, lane.curves, strict=True):
        mean = curves.means
        left = clock * lane.efficiency - sum(use.values())
        while left > _NO_HOUR:
            best = max(mean, key=lambda k: _spares(k, mean[k], dark, missing), default=None)
            if best is None or _spares(best, mean[best], dark, missing) <= 0:
                break
            until = min(
                missing[best[0], c] / g
                for c, g in mean[best].items()
                if g > 0 and _lacks((best[0], c), dark, missing)
            )
            hours = min(left, max(until, MISSING_H))
            use[best] = use.get(best, 0.0) + hours
            _take(mean, {best: hours}, missing)
            left -= hours


def _spares(
    key: Key,
    gains: Mapping[str, float],
    dark: Mapping[Cell, float],
    missing: Mapping[Cell, float],
) -> float:
    """Hours in the dark that an hour spares of what is still missing."""
    cells = {(key[0], c): g for c, g in gains.items()}
    return sum(g / dark[cell] for cell, g in cells.items() if _lacks(cell, dark, missing))


def _lacks(cell: Cell, dark: Mapping[Cell, float], missing: Mapping[Cell, float]) -> bool:
    """Whether more than a sub is missing."""
    return missing.get(cell, 0.0) > MISSING_H * dark[cell] > 0


def _laid(
    lane: Lane,
    sets: Sequence[SmallSets],
    uses: Sequence[Mapping[Key, float]],
    goals: Mapping[Cell, float],
    throughs: Sequence[Through],
    every: int | None,
    before: Key,
) -> Lane:
    mine = [t for t in throughs if t.station == lane.station.name]
    how = {(t.aim, t.filter): Filtered(t.channels, t.sub.sub_s) for t in mine}
    flips = {
        name: night.target.transit if night.target else None for name, night in lane.nights.items()
    }
    blocks: list[Block] = []
    for run in runs_of(lane.stretches):
        hours: dict[Key, float] = {}
        for n in run:
            for key, h in uses[n].items():
                hours[key] = hours.get(key, 0.0) + h
        kept = without_crumbs(hours)
        small = [x for x in sets if x.stretch in run]
        whole = {
            (x.target, f): n * how[x.target, f].sub_s / 3600
            for x in small
            for f, n in x.counts.items()
        }
        before = (blocks[-1].target, blocks[-1].filter) if blocks else before
        every_use = {**kept, **{k: h + kept.get(k, 0.0) for k, h in whole.items()}}
        keys = best_order(every_use, [lane.curves[n] for n in run], goals, before, whole)
        order = _sub_by_sub(keys, small, subs_of(kept, how), every)
        start, end = lane.stretches[run[0]].start, lane.stretches[run[-1]].end
        blocks += blocks_of(start, end, order, how, lane.station.overheads, flips)
    return replace(lane, blocks=tuple(blocks))


def _sub_by_sub(
    keys: Sequence[Key],
    small: Sequence[SmallSets],
    counts: Mapping[Key, int],
    every: int | None,
) -> list[Key]:
    """Target by target, its small sets in turns, then its blocks."""
    out: list[Key] = []
    for target in dict.fromkeys(k[0] for k in keys):
        out += [k for x in small if x.target == target for k in x.order()]
        mine = {k: counts[k] for k in keys if k[0] == target and k in counts}
        out += order_of(mine, every)
    return out


def gained(lanes: Sequence[Lane]) -> dict[Cell, float]:
    """SNR squared that tonight's blocks add."""
    out: dict[Cell, float] = {}
    for lane in lanes:
        for block in lane.blocks:
            curves = next(
                c
                for s, c in zip(lane.stretches, lane.curves, strict=True)
                if s.start - 1e-9 <= block.start < s.end
            )
            for channel, gain in curves.means.get((block.target, block.filter), {}).items():
                cell = block.target, channel
                out[cell] = out.get(cell, 0.0) + gain * block.hours
    return out

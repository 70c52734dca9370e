"""The plan of several rigs for several targets: what each coming night is for, and tonight, its
first, laid in time.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

from ..model.words import listed
from .clear_nights import USUAL_CHANCE
from .sharing import Goal, Rate, Shared, Wanted, share_out
from .slots import Key, Slot, later_slots
from .small_sets import SmallSets
from .station import Aim, Span, Station
from .through import ChannelPlan, Through, channel_plan, through_of
from .tonight import (
    MISSING_H,
    Cell,
    Lane,
    Need,
    gained,
    laid_out,
    lane_of,
    served_whole,
    small_sets_of,
    tonight_slots,
)

_USED_H: Final = 0.05  # of a coming night that counts as a use of it
NIGHTS: Final = 30
"""Nights that are planned ahead."""


@dataclass(frozen=True)
class NightUse:
    """What a station is to shoot in a coming night, hours of open shutter if it is clear."""

    date: dt.date
    station: str
    target: str
    filter: str
    channels: tuple[str, ...]
    hours: float


@dataclass(frozen=True)
class Coming:
    """The plan: the channels of each target, every station's tonight, what coming nights are for,
    the SNR squared that tonight adds, the share of each goal that tonight and all of it bring,
    clear nights until the first target's goals are reached (None: more than are planned), and what
    each station would reach alone.
    """

    channels: Mapping[str, tuple[ChannelPlan, ...]]
    throughs: tuple[Through, ...]
    lanes: tuple[Lane, ...]
    uses: tuple[NightUse, ...]
    added: Mapping[Cell, float]
    after_tonight: Mapping[str, Mapping[str, float]]
    reached: Mapping[str, Mapping[str, float]]
    clear_nights: int | None
    left_out: tuple[SmallSets, ...] = ()
    alone: Mapping[str, Mapping[str, Mapping[str, float]]] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Weather:
    """The chance that a coming night is clear, for all and for those that a forecast tells of, and
    the hours of tonight that are under cloud.
    """

    chance: float = USUAL_CHANCE
    chances: Mapping[dt.date, float] = field(default_factory=dict)
    cloudy: tuple[Span, ...] = ()

    def of(self, date: dt.date) -> float:
        """That a night is clear."""
        return self.chances.get(date, self.chance)


def plan_coming(
    stations: Sequence[Station],
    aims: Sequence[Aim],
    tonight: dt.date,
    weather: Weather,
    nights: int = NIGHTS,
    every: int | None = None,
    since: float | None = None,
    current: Key | None = None,
) -> Coming:
    """The plan from ``tonight`` on, which is taken to be clear; of it what is left ``since`` a
    moment, ``current`` being what the first station shoots. ``every`` shoots the filters of a
    target in turns of so many subs. The first station is the one that hours are told for.
    """
    throughs, warnings = _throughs(stations, aims)
    needs = _needs(stations, aims, throughs)
    lanes = [_lane(s, stations[0], aims, throughs, tonight, weather, since) for s in stations]
    small = small_sets_of(lanes, throughs, needs)
    slots = [
        *(s for x, sets in zip(lanes, small, strict=True) for s in tonight_slots(x, sets, tonight)),
        *_later(lanes, aims, throughs, tonight, nights, weather),
    ]
    wanted = _wanted(aims, needs, served_whole(small, throughs))
    shared = _shared(slots, wanted)
    lanes = laid_out(lanes, small, shared, needs, throughs, every, _mix(slots, shared), current)
    added = gained(lanes)
    after = _after(added, needs)
    return Coming(
        {a.name: tuple(w.plan for (t, _), w in needs.items() if t == a.name) for a in aims},
        tuple(throughs),
        tuple(lanes),
        tuple(_uses(slots, shared, lanes, tonight, throughs)),
        added,
        after,
        shared.shares if shared else after,
        _clear_nights(slots, wanted, aims, needs, small, tonight),
        tuple(x for sets in small for x in sets if x.stretch is None),
        _alone(stations, slots, wanted),
        (*warnings, *_unserved(aims, throughs, slots, needs)),
    )


def _lane(
    station: Station,
    first: Station,
    aims: Sequence[Aim],
    throughs: Sequence[Through],
    tonight: dt.date,
    weather: Weather,
    since: float | None,
) -> Lane:
    """A station's tonight; the clouds that are told of are those of the first one's site."""
    cloudy = weather.cloudy if station.site == first.site else ()
    return lane_of(station, aims, throughs, tonight, cloudy, since)


def _unserved(
    aims: Sequence[Aim],
    throughs: Sequence[Through],
    slots: Sequence[Slot],
    needs: Mapping[Cell, Need],
) -> list[str]:
    """Channels that keep what they have: without a filter, or without a sky that is worth it."""
    usable = {(k[0], c) for s in slots for k, gains in s.gains.items() for c in gains}
    filtered = {(t.aim, c) for t in throughs for c in t.channels}
    out = []
    for aim in aims:
        missing = [
            c
            for c in aim.demands
            if (aim.name, c) not in usable
            and ((aim.name, c) not in needs or needs[aim.name, c].plan.missing_h > MISSING_H)
        ]
        without = [c for c in missing if (aim.name, c) not in filtered]
        if without:
            out.append(f"No filter serves {listed(without)} of {aim.name}.")
        dim = [c for c in missing if c not in without]
        if dim:
            out.append(
                f"No sky of the coming nights is worth an exposure in {listed(dim)} of {aim.name}."
            )
    return out


def _throughs(stations: Sequence[Station], aims: Sequence[Aim]) -> tuple[list[Through], list[str]]:
    out, warnings = [], []
    for station in stations:
        for f in station.filters:
            made = [through_of(station, f, aim) for aim in aims]
            out += [t for t in made if t is not None]
            if None in made:
                names = listed([b.channel for b in f.bands])
                warnings.append(
                    f"{station.name} is mono and cannot part {names} behind {f.name}: it serves "
                    "none of them."
                )
    return out, list(dict.fromkeys(warnings))


def _needs(
    stations: Sequence[Station], aims: Sequence[Aim], throughs: Sequence[Through]
) -> dict[Cell, Need]:
    """Channels of targets, their hours told for the first station that serves them."""
    out = {}
    for aim in aims:
        for channel in aim.demands:
            for station in stations:
                fit = [
                    t
                    for t in throughs
                    if (t.station, t.aim) == (station.name, aim.name) and channel in t.channels
                ]
                if fit:
                    best = max(fit, key=lambda t: t.alone[channel])
                    plan = channel_plan(station, best, aim, channel)
                    rate = plan.per_hour
                    out[aim.name, channel] = Need(plan, rate * plan.wanted_h, rate * plan.had_h)
                    break
    return out


def _later(
    lanes: Sequence[Lane],
    aims: Sequence[Aim],
    throughs: Sequence[Through],
    tonight: dt.date,
    nights: int,
    weather: Weather,
) -> list[Slot]:
    dates = [tonight + dt.timedelta(days=n) for n in range(1, nights)]
    clear = {d: weather.of(d) for d in dates}
    out = []
    for lane in lanes:
        mine = [t for t in throughs if t.station == lane.station.name]
        out += later_slots(lane.station, aims, mine, dates, lane.efficiency, clear)
    return sorted(out, key=lambda s: s.date)


def _wanted(
    aims: Sequence[Aim],
    needs: Mapping[Cell, Need],
    whole: set[Cell],
) -> list[Wanted]:
    """Goals of the program; what small sets bring tonight is taken as held."""
    out = []
    for aim in aims:
        channels = {
            c: Goal(w.goal**0.5, (w.goal if (t, c) in whole else w.had) ** 0.5)
            for (t, c), w in needs.items()
            if t == aim.name and w.goal > 0
        }
        if channels:
            out.append(Wanted(aim.name, channels, aim.priority))
    return out


def _shared(
    slots: Sequence[Slot],
    wanted: Sequence[Wanted],
    certain: bool = False,
    early: bool = True,
) -> Shared | None:
    """The program solved; ``certain``: as if every night were clear; without ``early`` hours may
    lie anywhere, and only shares are told.
    """
    names = {w.name for w in wanted}
    rates = [
        Rate(s.window.name, key[0], key[1], gains)
        for s in slots
        for key, gains in s.gains.items()
        if key[0] in names
    ]
    if not wanted:
        return None
    windows = [replace(s.window, clear=1.0) if certain else s.window for s in slots]
    return share_out(windows, wanted, rates, early)


def _mix(slots: Sequence[Slot], shared: Shared | None) -> dict[tuple[str, bool], dict[Key, float]]:
    """Hours of the program by station and whether the Moon is up."""
    out: dict[tuple[str, bool], dict[Key, float]] = {}
    uses = shared.uses if shared is not None else {}
    for s in slots:
        parts = out.setdefault((s.window.rig, s.moonlit), {})
        for u in uses.get(s.window.name, ()):
            parts[u.target, u.filter] = parts.get((u.target, u.filter), 0.0) + u.hours
    return out


def _after(added: Mapping[Cell, float], needs: Mapping[Cell, Need]) -> dict[str, dict[str, float]]:
    """The share of each goal once what tonight adds is there."""
    out: dict[str, dict[str, float]] = {}
    for (target, channel), w in needs.items():
        if w.goal > 0:
            share = (w.had + added.get((target, channel), 0.0)) / w.goal
            out.setdefault(target, {})[channel] = min(share, 1.0)
    return out


def _uses(
    slots: Sequence[Slot],
    shared: Shared | None,
    lanes: Sequence[Lane],
    tonight: dt.date,
    throughs: Sequence[Through],
) -> list[NightUse]:
    """Tonight by its blocks, later nights by the program, in hours if they are clear."""
    sums: dict[tuple[dt.date, str, str, str], float] = {}
    for lane in lanes:
        for b in lane.blocks:
            key = tonight, lane.station.name, b.target, b.filter
            sums[key] = sums.get(key, 0.0) + b.hours
    for s in slots:
        if shared is None or s.date == tonight:
            continue
        for u in shared.uses[s.window.name]:
            key = s.date, s.window.rig, u.target, u.filter
            sums[key] = sums.get(key, 0.0) + u.hours / max(s.window.clear, 1e-9)
    bands = {(t.station, t.filter): t.channels for t in throughs}
    return [
        NightUse(date, station, target, name, bands[station, name], h)
        for (date, station, target, name), h in sums.items()
        if h >= _USED_H
    ]


def _clear_nights(
    slots: Sequence[Slot],
    wanted: Sequence[Wanted],
    aims: Sequence[Aim],
    needs: Mapping[Cell, Need],
    small: Sequence[Sequence[SmallSets]],
    tonight: dt.date,
) -> int | None:
    """Clear nights until the first target's goals are reached; None: more than are planned."""
    first = aims[0].name if aims else ""
    mine = [w for (t, _), w in needs.items() if t == first]
    if all(w.plan.missing_h <= MISSING_H for w in mine):
        return 0
    shared = _shared(slots, [w for w in wanted if w.name == first], certain=True)
    if shared is None or shared.share(first) < 0.999:
        return None
    used = {s.date for s in slots if sum(u.hours for u in shared.uses[s.window.name]) > _USED_H}
    if any(x.target == first and x.stretch is not None for sets in small for x in sets):
        used.add(tonight)
    return len(used)


def _alone(
    stations: Sequence[Station], slots: Sequence[Slot], wanted: Sequence[Wanted]
) -> dict[str, dict[str, dict[str, float]]]:
    """The share of each channel's goal that every station would reach without the others, of those
    that it serves.
    """
    if len(stations) < 2 or not wanted:
        return {}
    out: dict[str, dict[str, dict[str, float]]] = {}
    for station in stations:
        mine = [s for s in slots if s.window.rig == station.name]
        shared = _shared(mine, wanted, early=False)
        served = {(k[0], c) for s in mine for k, gains in s.gains.items() for c in gains}
        if shared is not None:
            out[station.name] = {
                t: {c: v for c, v in shares.items() if (t, c) in served}
                for t, shares in shared.shares.items()
            }
    return out

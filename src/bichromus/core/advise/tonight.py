"""Tonight in one sentence: who shoots what first, until when, then what."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import groupby

from ..model.words import listed
from ..plan.coming import NIGHTS, Coming
from ..plan.laying import Block
from ..plan.night import Night
from ..plan.station import Aim
from ..plan.stretches import runs_of
from ..plan.through import ChannelPlan
from ..plan.tonight import MISSING_H, Lane
from .base import Advice, hours_text

Clock = Callable[[float], str]
Rows = tuple[tuple[str, str], ...]
_SHORT_H = 2.0  # of open shutter: below, the evening's cost is told
_WHY = (
    "Hours are shared out over {nights} nights so that what lags furthest behind its goal gains "
    "most; moonlight brightens O3 and broadband about twice as much as Ha and S2, so these wait "
    "for the dark."
)


def advise_tonight(coming: Coming, aim: Aim, clock: Clock, cloudy: bool = False) -> Advice | None:
    """``aim`` is the plan's target, ``clock`` turns a Julian day into local time; ``cloudy``: a
    forecast tells of clouds tonight.
    """
    lane = coming.lanes[0]
    night = lane.nights[aim.name]
    about = night.target
    if about is None:
        return None
    channels = coming.channels.get(aim.name, ())
    rows = _sky_rows(night, aim.name, clock)
    if any(x.blocks for x in coming.lanes):
        sentence = _several(coming.lanes, clock)
        if len(coming.lanes) == 1 and {b.target for b in lane.blocks} == {aim.name}:
            sentence = _order(lane, night, clock)
        rows += _wanted_rows(channels) + _company_rows(coming, aim.name)
        sentence += _short_gap(coming, lane, aim.name)
        first = next(x.blocks[0] for x in coming.lanes if x.blocks)
        why = _WHY.format(nights=NIGHTS)
        return Advice("act", sentence, rows, why, first.channels[0])
    site = lane.station.site
    if about.state != "open":
        closed = _closed(night, about.state, aim.name, site)
        limits = "A window needs Sun and target beyond the limits you set, and the target above "
        return Advice("note", closed, rows, limits + "your horizon.")
    if all(c.missing_h <= MISSING_H for targets in coming.channels.values() for c in targets):
        return Advice(
            "good",
            f"All goals for {listed(list(coming.channels))} are reached: nothing has to be shot "
            "tonight.",
            rows,
            "A goal is the hours at which all channels are equally loud within the noise you "
            "allow.",
        )
    rows += _wanted_rows(channels) + _company_rows(coming, aim.name)
    if not lane.stretches:
        left = (
            f"Clouds stand over the whole window of {aim.name} tonight."
            if cloudy
            else f"Your own hours leave nothing of the window of {aim.name} tonight."
        )
        return Advice("note", left, rows, "From the forecast." if cloudy else "From the site.")
    sentence = f"The window of {aim.name} tonight is too short for a single sub."
    return Advice("note", sentence, rows)


def _short_gap(coming: Coming, lane: Lane, target: str) -> str:
    """What a short night brings against what it takes to set up."""
    hours = sum(b.hours for b in lane.blocks)
    set_up = lane.station.set_up_min / 60
    if not 0 < hours < _SHORT_H or set_up <= 0:
        return ""
    channel = lane.blocks[0].channels[0]
    plan = next((c for c in coming.channels.get(target, ()) if c.channel == channel), None)
    share = coming.after_tonight.get(target, {}).get(channel)
    if plan is None or share is None or plan.wanted_h <= 0:
        return ""
    had = 100 * plan.had_h / plan.wanted_h
    return (
        f" Set-up takes {hours_text(set_up)}, the shutter is open {hours_text(hours)}: {channel} "
        f"goes from {had:.0f} to {100 * share:.0f} % of its goal."
    )


def _sky_rows(night: Night, target: str, clock: Clock) -> Rows:
    about = night.target
    moon = f"{100 * night.moon.lit:.0f} %"
    moon += f", sets {clock(night.moon.set)}" if night.moon.set else ""
    rows = (("Moon", moon), (f"{target} usable", _hours(about.hours if about else 0.0)))
    if not night.dark:
        return rows
    return (("dark", f"{clock(night.dark[0][0])} to {clock(night.dark[-1][1])}"), *rows)


def _hours(hours: float) -> str:
    return hours_text(hours) if hours else "no"


def _wanted_rows(channels: Sequence[ChannelPlan]) -> Rows:
    return tuple(
        (
            f"{c.channel}, hours wanted and held",
            f"{hours_text(c.wanted_h)}, " + (hours_text(c.had_h) if c.had_h else "none"),
        )
        for c in channels
        if c.missing_h > MISSING_H
    )


def _company_rows(coming: Coming, target: str) -> Rows:
    """What rigs reach together and alone, and what cannot be had."""
    rows: list[tuple[str, str]] = []
    if coming.alone and target in coming.reached:
        share = min(coming.reached[target].values())
        rows.append((f"all rigs, in {NIGHTS} nights", f"{100 * share:.0f} % of the goal"))
        rows += [
            (f"{name} alone", f"{100 * min(shares[target].values()):.0f} % of what it serves")
            for name, shares in coming.alone.items()
            if shares.get(target)
        ]
    rows += [
        (
            f"{listed(list(sets.counts))} in one stretch",
            f"{hours_text(sets.hours)}, which tonight does not hold",
        )
        for sets in coming.left_out
        if sets.counts
    ]
    return (*rows, *(("to note", words) for words in coming.warnings))


def _closed(night: Night, state: str, target: str, site: str) -> str:
    if state == "never_rises":
        return f"{target} never rises at {site}."
    if state == "too_low":
        return f"{target} stays too low at {site} tonight."
    words = {
        "polar_day": "the Sun does not set",
        "no_civil_dark": "it does not get dark at all",
        "no_nautical_dark": "there is only civil darkness",
        "no_astronomical_dark": "there is no astronomical darkness",
    }
    why = words.get(night.state, "it is up only while the sky is bright")
    return f"{target} cannot be shot at {site} tonight: {why}."


def _several(lanes: Sequence[Lane], clock: Clock) -> str:
    """What each rig shoots under which sky; of one rig what it shoots of which target."""
    at_work = [x for x in lanes if x.blocks]
    targets = {b.target for x in at_work for b in x.blocks}
    if len(lanes) == 1:
        parts = [
            f"{target} in {listed(_names(blocks))} {clock(blocks[0].start)} to "
            f"{clock(blocks[-1].end)}"
            for target, blocks in _by_target(at_work[0].blocks)
        ]
        return f"{', then '.join(parts)}."
    sites = [x.station.site for x in lanes]
    clauses = []
    for lane in at_work:
        name = lane.station.site if sites.count(lane.station.site) == 1 else lane.station.name
        parts = [
            f"{target} in {listed(_names(blocks))}" if len(targets) > 1 else _skies(lane, blocks)
            for target, blocks in _by_target(lane.blocks)
        ]
        clauses.append(f"{name}: {', then '.join(parts)}")
    return f"{'; '.join(clauses)}."


def _by_target(blocks: Sequence[Block]) -> list[tuple[str, list[Block]]]:
    return [(t, list(group)) for t, group in groupby(blocks, key=lambda b: b.target)]


def _skies(lane: Lane, blocks: Sequence[Block]) -> str:
    """Filters by the sky that they are shot under."""
    lit = _names([b for b in blocks if _lit(lane, b)])
    dark = _names([b for b in blocks if not _lit(lane, b)])
    if lit and lit == dark:
        return f"{listed(lit)} all night"
    parts = [(dark, "while it is dark"), (lit, "under the Moon")]
    if lit and dark and _lit(lane, blocks[0]):
        parts.reverse()
    return ", ".join(f"{listed(names)} {words}" for names, words in parts if names)


def _order(lane: Lane, night: Night, clock: Clock) -> str:
    blocks = lane.blocks
    first = blocks[0]
    lit_names = _names([b for b in blocks if _lit(lane, b)])
    dark_blocks = [b for b in blocks if not _lit(lane, b)]
    if lit_names and dark_blocks and lit_names == _names(dark_blocks):
        return (
            f"{listed(lit_names)} all night, {clock(first.start)} to {clock(blocks[-1].end)}; "
            f"the Moon, {100 * night.moon.lit:.0f} %, is up for a part of it."
        )
    if lit_names and dark_blocks:
        run = next(r for r in runs_of(lane.stretches) if lane.stretches[r[-1]].end > first.start)
        edge = lane.stretches[run[-1]]
        if _lit(lane, first):
            return (
                f"Moon {100 * night.moon.lit:.0f} % until {clock(edge.end)}: {listed(lit_names)} "
                f"first, {listed(_names(dark_blocks))} from {clock(dark_blocks[0].start)} when the "
                "sky is dark."
            )
        return (
            f"Dark until {clock(edge.end)}: {listed(_names(dark_blocks))} first, "
            f"then {listed(lit_names)} in the moonlight."
        )
    names = _names(blocks)
    sky = "under the Moon" if lit_names else "under a dark sky"
    order = f"{names[0]} first" + (f", then {listed(names[1:])}" if len(names) > 1 else "")
    return f"{order}, {clock(first.start)} to {clock(blocks[-1].end)} {sky}."


def _lit(lane: Lane, block: Block) -> bool:
    return any(s.moonlit for s in lane.stretches if s.start - 1e-9 <= block.start < s.end)


def _names(blocks: Sequence[Block]) -> list[str]:
    return list(dict.fromkeys("+".join(b.channels) for b in blocks))

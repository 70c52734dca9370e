"""Tonight in one sentence: what first, until when, then what."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..plan.blocks import Block
from ..plan.night import Night
from ..plan.program import MISSING_H, ChannelPlan, NightPlan
from ..plan.segments import runs_of
from .base import Advice, hours_text, listed


def advise_tonight(
    night: Night,
    plan: NightPlan,
    channels: Sequence[ChannelPlan],
    target: str,
    site: str,
    clock: Callable[[float], str],
    cloudy: bool,
) -> Advice | None:
    """``clock`` turns a Julian day into local time. ``cloudy``: clouds took all of the target's
    windows.
    """
    about = night.target
    if about is None:
        return None
    moon = f"{100 * night.moon.lit:.0f} %"
    rows = (
        (("dark", f"{clock(night.dark[0][0])} to {clock(night.dark[-1][1])}"),)
        if night.dark
        else ()
    ) + (
        ("Moon", moon + (f", sets {clock(night.moon.set)}" if night.moon.set else "")),
        (f"{target} usable", hours_text(about.hours) if about.hours else "no"),
    )
    if about.state != "open":
        return Advice(
            "note",
            _closed(night, about.state, target, site),
            rows,
            "A window needs Sun and target beyond the limits you set, and the target above "
            "your horizon.",
        )
    rows += tuple(
        (
            f"{c.channel}, hours wanted and held",
            f"{hours_text(c.wanted_h)}, " + (hours_text(c.had_h) if c.had_h else "none"),
        )
        for c in channels
        if c.missing_h > MISSING_H
    )
    if all(c.missing_h <= MISSING_H for c in channels):
        return Advice(
            "good",
            f"All goals for {target} are reached: nothing has to be shot tonight.",
            rows,
            "A goal is the hours at which all channels are equally loud within the "
            "noise you allow.",
        )
    if cloudy or not plan.segments:
        return Advice(
            "note",
            f"Clouds stand over the whole window of {target} tonight.",
            rows,
            "From the forecast.",
        )
    if plan.left_out is not None:
        names, hours = listed(list(plan.left_out.counts)), hours_text(plan.left_out.hours)
        rows += ((f"{names} in one stretch", f"{hours}, which tonight does not hold"),)
    if not plan.blocks:
        return Advice(
            "note", f"The window of {target} tonight is too short for a single sub.", rows
        )
    return Advice(
        "act",
        _order(plan, night, clock),
        rows,
        "Hours go first to the channel furthest behind its goal; moonlight brightens O3 and "
        "broadband about twice as much as Ha and S2, so these wait for the dark.",
        plan.blocks[0].channel,
    )


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


def _order(plan: NightPlan, night: Night, clock: Callable[[float], str]) -> str:
    first = plan.blocks[0]
    lit_names = _names([b for b in plan.blocks if _lit(plan, b)])
    dark_blocks = [b for b in plan.blocks if not _lit(plan, b)]
    if lit_names and dark_blocks and lit_names == _names(dark_blocks):
        return (
            f"{listed(lit_names)} all night, {clock(first.start)} to {clock(plan.blocks[-1].end)}; "
            f"the Moon, {100 * night.moon.lit:.0f} %, is up for a part of it."
        )
    if lit_names and dark_blocks:
        run = next(r for r in runs_of(plan.segments) if plan.segments[r[-1]].end > first.start)
        edge = plan.segments[run[-1]]
        if _lit(plan, first):
            return (
                f"Moon {100 * night.moon.lit:.0f} % until {clock(edge.end)}: {listed(lit_names)} "
                f"first, {listed(_names(dark_blocks))} from {clock(dark_blocks[0].start)} when the "
                "sky is dark."
            )
        return (
            f"Dark until {clock(edge.end)}: {listed(_names(dark_blocks))} first, "
            f"then {listed(lit_names)} in the moonlight."
        )
    names = _names(list(plan.blocks))
    sky = "under the Moon" if lit_names else "under a dark sky"
    order = f"{names[0]} first" + (f", then {listed(names[1:])}" if len(names) > 1 else "")
    return f"{order}, {clock(first.start)} to {clock(plan.blocks[-1].end)} {sky}."


def _lit(plan: NightPlan, block: Block) -> bool:
    return any(s.moonlit for s in plan.segments if s.start - 1e-9 <= block.start < s.end)


def _names(blocks: list[Block]) -> list[str]:
    return list(dict.fromkeys(b.channel for b in blocks))

"""The plan itself: sub lengths, hours wanted, what to shoot in the coming nights, tonight block by
block.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from .allocate import Allocation, Want, Window, allocate
from .blocks import Block, blocks_of
from .exposure import Optics, SubAdvice, advise_sub, hours_for, saturation_time, snr
from .order import OrderCost, Overheads, cost, sequence
from .segments import Segment, runs_of
from .sky import sky_ab, sky_factor
from .small_sets import SmallSets, small_sets
from .twilight import NightLight
from .worth import SHORTEST_S, Worth

MISSING_H = 0.02
"""Hours below which a goal counts as reached: a sub or less."""
_OPEN = 0.91  # share of a night's usable time with the shutter open
_WORTH = 0.05  # of an hour in the dark, below which a sky is not worth an exposure
USUAL_OVERHEAD_S = 12.0
"""What a sub costs beside its exposure: its download, its share of dither and settling."""
_READ_SHARE = 0.05  # noise that the read noise may add to a sub
_BEAM_PIXELS = 2.27  # pixels of a star's beam over FWHM squared
DEFAULT_GOAL = 15.0


@dataclass(frozen=True)
class ChannelInput:
    """A channel to be planned: its optics, what the target shines in it, and what is held already.

    ``pixel_share`` is the share of the pixels that see the channel (1 for mono), as it counts for
    SNR squared. ``factor`` is how many times its noise must fall (1: nothing is missing, None: not
    measured yet), as measured on a stack of ``measured_hours`` (None: on all that is held).
    """

    channel: str
    optics: Optics
    target_e_s: float
    site_mag: float
    fwhm_px: float
    full_well_e: float
    brightest_star_ab: float = 8.0
    hours_had: float = 0.0
    factor: float | None = None
    goal_hours: float | None = None
    pixel_share: float = 1.0
    measured_hours: float | None = None


@dataclass(frozen=True)
class ChannelPlan:
    """Sub length with its reason and its ``worth``, and the hours of open shutter under a dark sky
    that are wanted and missing.
    """

    channel: str
    sub: SubAdvice
    target_e_s: float
    sky_e_s: float
    wanted_h: float
    had_h: float
    sub_snr: float
    stack_snr: float
    moon_factor: float
    worth: Worth

    @property
    def missing_h(self) -> float:
        """Hours that are still wanted; never below zero."""
        return max(self.wanted_h - self.had_h, 0.0)


@dataclass(frozen=True)
class NightPlan:
    """What a night gives: its segments and blocks, hours by channel and what they are worth in
    hours under a dark sky, what block and cycle would cost, and small sets that it cannot hold
    whole.
    """

    segments: tuple[Segment, ...]
    blocks: tuple[Block, ...]
    hours: dict[str, float]
    gained: dict[str, float]
    block_cost: OrderCost
    cycle_cost: OrderCost
    left_out: SmallSets | None = None


def plan_channel(
    c: ChannelInput,
    cap_s: float,
    moon_nl: float = 0.0,
    goal_snr: float = DEFAULT_GOAL,
    overhead_s: float = USUAL_OVERHEAD_S,
) -> ChannelPlan:
    """Sub length under the dark sky, each sub costing ``overhead_s`` beside its exposure, and the
    hours that the channel still wants.
    """
    optics = c.optics
    sky = optics.surface_e_s(sky_ab(c.channel, c.site_mag))
    light = sky + optics.dark_e_s
    full = saturation_time(
        c.full_well_e, 0.0, optics.point_e_s(c.brightest_star_ab), c.fwhm_px, light + c.target_e_s
    )
    worth = Worth(
        light + c.target_e_s, optics.read_noise_e, overhead_s, most_s=max(cap_s, SHORTEST_S)
    )
    advised = worth.advised()
    # full stars set no length: they are a price that is told
    sub = replace(
        advise_sub(optics.read_noise_e, light, _READ_SHARE, saturates_at_s=full, given_s=advised),
        limited_by="max_sub" if advised >= cap_s else "worth",
    )
    pixels = _BEAM_PIXELS * c.fwhm_px**2 * c.pixel_share
    if c.goal_hours is not None:
        wanted = c.goal_hours
    elif c.factor is not None:
        wanted = (c.measured_hours or c.hours_had) * c.factor**2
    else:
        wanted = (
            hours_for(goal_snr, c.target_e_s, light, optics.read_noise_e, sub.sub_s, pixels) or 0.0
        )
    hours = max(wanted, c.hours_had)
    reached = snr(
        c.target_e_s,
        light,
        optics.read_noise_e,
        sub.sub_s,
        max(hours * 3600 / sub.sub_s, 1e-9),
        pixels,
    )
    return ChannelPlan(
        c.channel,
        sub,
        c.target_e_s,
        sky,
        wanted,
        c.hours_had,
        snr(c.target_e_s, light, optics.read_noise_e, sub.sub_s, 1),
        reached,
        sky_factor(c.channel, c.site_mag, moon_nl),
        worth,
    )


def wants_of(
    plans: Sequence[ChannelPlan],
    inputs: Mapping[str, ChannelInput],
    skies: Mapping[str, NightLight],
) -> list[Want]:
    """What the allocation needs: goals in SNR of the dark sky, skies by window from the light of
    Moon and Sun in it.
    """
    out = []
    for plan in plans:
        if plan.missing_h <= MISSING_H or plan.target_e_s <= 0:
            continue
        c = inputs[plan.channel]
        sky = {
            name: plan.sky_e_s * light.factor(plan.channel, c.site_mag)
            for name, light in skies.items()
        }
        dark = Want(
            plan.channel,
            1.0,
            plan.target_e_s,
            c.optics.read_noise_e,
            plan.sub.sub_s,
            {"dark": plan.sky_e_s},
            dark_e_s=c.optics.dark_e_s,
        )
        rate = dark.rate("dark")
        found = replace(dark, sky_e_s=sky)
        out.append(
            replace(
                dark,
                goal_snr=float(np.sqrt(rate * plan.wanted_h)),
                had_snr=float(np.sqrt(rate * plan.had_h)),
                sky_e_s={n: e for n, e in sky.items() if found.rate(n) >= _WORTH * rate},
            )
        )
    return out


def plan_tonight(
    segments: Sequence[Segment],
    plans: Sequence[ChannelPlan],
    inputs: Mapping[str, ChannelInput],
    every: int | None,
    overheads: Overheads | None = None,
    flip: float | None = None,
) -> NightPlan:
    """Blocks for the night: small sets whole, then the channel furthest behind first, each sky used
    for what it harms least.

    ``flip`` is the moment at which the target crosses the meridian.
    """
    overheads = overheads or Overheads()
    by_name = {p.channel: p for p in plans}
    sub_s = {p.channel: p.sub.sub_s for p in plans}
    names = [f"{n}" for n in range(len(segments))]
    wants = wants_of(plans, inputs, {n: s.light for n, s in zip(names, segments, strict=True)})
    blocks: list[Block] = []
    subs_tonight: dict[str, int] = {}
    small = None
    if wants and segments:
        small = small_sets(
            segments,
            wants,
            {p.channel: p.missing_h for p in plans},
            {w.name: w.goal_snr**2 / by_name[w.name].wanted_h for w in wants},
            _OPEN,
        )
        whole = small.order() if small is not None else []
        where = str(small.segment) if small is not None else ""
        windows = [
            Window(n, s.hours - (small.hours if small is not None and n == where else 0), _OPEN)
            for n, s in zip(names, segments, strict=True)
        ]
        others = [w for w in wants if w.name not in whole]
        found = allocate(windows, others) if others else None
        behind = sorted(
            (w.name for w in others),
            key=lambda n: by_name[n].had_h / max(by_name[n].wanted_h, 1e-9),
        )
        for run in runs_of(segments):
            order: list[str] = []
            spent, laid = dict.fromkeys(behind, 0.0), dict.fromkeys(behind, 0)
            for name in (names[n] for n in run):
                shared = found.hours[name] if found is not None else {}
                counts = {}
                for c in behind:  # what is left of a sub goes on into the next piece
                    spent[c] += shared.get(c, 0)
                    counts[c] = math.ceil(spent[c] * 3600 / sub_s[c] - 0.1) - laid[c]
                    laid[c] += counts[c]
                counts = {c: n for c, n in counts.items() if n > 0}
                order += [*(whole if name == where else []), *sequence(counts, every)]
            for c in order:
                subs_tonight[c] = subs_tonight.get(c, 0) + 1
            stretch = replace(segments[run[0]], end=segments[run[-1]].end)
            blocks += blocks_of(stretch, order, sub_s, overheads, flip)
    hours = {
        c: sum(b.subs * b.sub_s for b in blocks if b.channel == c) / 3600 for c in subs_tonight
    }
    worth = _gain_per_hour(blocks, segments, wants, by_name)
    return NightPlan(
        tuple(segments),
        tuple(blocks),
        hours,
        worth,
        cost(subs_tonight, sub_s, None, overheads),
        cost(subs_tonight, sub_s, every or 3, overheads),
        small if small is not None and small.segment is None else None,
    )


def gain_of_hour(plan: ChannelPlan, c: ChannelInput, segments: Sequence[Segment]) -> float:
    """What an hour in a night's segments counts in hours under the dark sky, on average; 1 without
    segments.
    """
    hours = sum(s.hours for s in segments)
    if hours <= 0 or plan.target_e_s <= 0:
        return 1.0
    skies = {
        "dark": plan.sky_e_s,
        **{
            str(n): plan.sky_e_s * s.light.factor(plan.channel, c.site_mag)
            for n, s in enumerate(segments)
        },
    }
    want = Want(
        plan.channel,
        1.0,
        plan.target_e_s,
        c.optics.read_noise_e,
        plan.sub.sub_s,
        skies,
        dark_e_s=c.optics.dark_e_s,
    )
    return (
        sum(want.rate(str(n)) * s.hours for n, s in enumerate(segments)) / want.rate("dark") / hours
    )


def _gain_per_hour(
    blocks: Sequence[Block],
    segments: Sequence[Segment],
    wants: Sequence[Want],
    plans: Mapping[str, ChannelPlan],
) -> dict[str, float]:
    """Hours of each channel as hours under the dark sky: an hour in moonlight counts for less."""
    out: dict[str, float] = {}
    for want in wants:
        dark_rate = want.goal_snr**2 / plans[want.name].wanted_h
        for block in (b for b in blocks if b.channel == want.name):
            name = next(
                str(n) for n, s in enumerate(segments) if s.start - 1e-9 <= block.start < s.end
            )
            hours = block.subs * block.sub_s / 3600
            out[want.name] = out.get(want.name, 0.0) + hours * want.rate(name) / dark_rate
    return out


def plan_nights(
    nights: Sequence[tuple[str, float, float, float]],
    plans: Sequence[ChannelPlan],
    inputs: Mapping[str, ChannelInput],
) -> Allocation | None:
    """Hours over coming nights, each (name, dark hours, moonlit hours, moonlight); None when
    nothing is to be done.
    """
    windows: list[Window] = []
    skies: dict[str, NightLight] = {}
    for name, dark, lit, nl in nights:
        for kind, hours, light in (("dark", dark, 0.0), ("moon", lit, nl)):
            if hours > 0.1:
                windows.append(Window(f"{name} {kind}", hours, _OPEN))
                skies[f"{name} {kind}"] = NightLight(light)
    wants = wants_of(plans, inputs, skies)
    return allocate(windows, wants) if wants and windows else None

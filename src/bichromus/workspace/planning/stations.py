"""What a person knows, as the plan computes with it: rigs with their filters under their skies, and
targets.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Final
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from ...core.model.channel import COLOURS, LINES, WAVELENGTH_NM, channel_order
from ...core.model.errors import InputError
from ...core.plan.budget import BandFilter, Glow, LightRig, PassBand
from ...core.plan.dates import julian
from ...core.plan.earth import Place
from ...core.plan.filter_check import NARROW_NM
from ...core.plan.guesses import glow_of, surface_of
from ...core.plan.horizon import make_horizon
from ...core.plan.night import Rules, Target
from ...core.plan.optics import filter_shift, lines_of
from ...core.plan.order import Overheads
from ...core.plan.station import GOAL_SNR, Aim, Demand, SiteSky, Span, Station
from ..library.things import BandThing, FilterThing, PlanState, RigThing, SiteThing, TargetThing
from .held import Held

_SHAPE: Final = "flat"
STAR_COLOURS_H: Final = 0.75
"""Hours of each colour that give the stars of a nebula theirs, where nobody says hours."""
COLOUR_SNR: Final = GOAL_SNR / 3
"""Of red, green and blue beside a luminance: the eye seeks detail in lightness."""
_LINE_KINDS: Final = ("emission", "planetary", "remnant")
_BROAD: Final = ("L", "C", *COLOURS)
_USUAL: Final = {
    "galaxy": (*_BROAD, "Ha"),
    "reflection": _BROAD,
    "cluster": _BROAD,
    "dark": _BROAD,
}
"""Channels that people shoot of a kind; of others the lines, and colours for the stars."""
_WEEKDAYS: Final = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


def zone_of(site: SiteThing) -> ZoneInfo:
    """The site's time zone. Raises InputError."""
    try:
        return ZoneInfo(site.time_zone)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise InputError(
            f"The time zone of {site.name} is not known",
            why=site.time_zone,
            do="Write it as Pacific/Auckland or UTC",
        ) from error


def place_of(site: SiteThing) -> Place:
    """Where a site is."""
    return Place(site.lat, site.lon, site.elevation_m)


def rules_of(plan: PlanState, site: SiteThing) -> Rules:
    """When a target may be shot from a site."""
    return Rules(plan.min_altitude, plan.sun_below, horizon=make_horizon(site.horizon))


def centre_of(f: FilterThing, band: BandThing) -> float:
    """Where a band lies in a parallel beam, nm: on its line in the beam that it is made for."""
    if band.centre_nm is not None:
        return band.centre_nm
    line = WAVELENGTH_NM[band.channel]
    if f.made_for is None or band.channel not in LINES:
        return line
    shift = filter_shift(f.made_for, lines_of(band.channel), line, band.width_nm, f.index)
    return line - shift.mean_nm


def filter_of(f: FilterThing) -> BandFilter:
    """A filter as the light budget takes it; broad ones do not mind the beam."""
    bands = tuple(PassBand(b.channel, centre_of(f, b), b.width_nm, b.transmission) for b in f.bands)
    narrow = any(b.width_nm <= NARROW_NM for b in f.bands)
    return BandFilter(f.name, bands, f.index if narrow else None, _SHAPE)


def station_of(
    plan: PlanState, rig: RigThing, site: SiteThing, dates: Sequence[dt.date]
) -> Station:
    """A rig under a site's sky in the nights of ``dates``. Raises InputError."""
    light = LightRig(
        rig.aperture_mm,
        rig.focal,
        rig.pixel_um,
        rig.throughput,
        rig.quantum_efficiency,
        rig.read_noise,
        rig.obstruction,
        rig.dark_e_s,
        rig.colour,
    )
    return Station(
        rig.name,
        site.name,
        light,
        tuple(filter_of(f) for f in plan.filters_of(rig)),
        place_of(site),
        SiteSky(site.sky_mag, site.glow),
        rig.fwhm_arcsec / rig.as_rig().scale_arcsec,
        rig.full_well,
        rules_of(plan, site),
        overheads_of(plan, rig),
        plan.max_sub_s,
        rig.set_up_min,
        {d: _awake(site, d) for d in dates if site.not_before or site.not_after},
    )


def overheads_of(plan: PlanState, rig: RigThing) -> Overheads:
    """What a rig loses between its subs."""
    return Overheads(
        plan.download_s,
        dither_every=plan.dither_every,
        refocus_s=rig.focus_run_min * 60,
        refocus_min=plan.refocus_min_of(rig),
        flip_s=rig.flip_min * 60,
        focus_offsets=rig.focus_offsets,
    )


def stations_of(plan: PlanState, dates: Sequence[dt.date]) -> list[Station]:
    """The plan's rig, then those that shoot beside it, each under its own site's sky (the plan's
    where it has none). Raises InputError.
    """
    rig = plan.rig_named()
    out = [station_of(plan, rig, plan.site_named(), dates)]
    for name in plan.with_rigs:
        other = plan.rig_named(name)
        if other.name != rig.name:
            out.append(station_of(plan, other, home_of(plan, other), dates))
    return out


def home_of(plan: PlanState, rig: RigThing) -> SiteThing:
    """The site of a rig; the plan's where it has none."""
    known = {s.name for s in plan.sites}
    return plan.site_named(rig.site if rig.site in known else None)


def targets_of(plan: PlanState) -> list[TargetThing]:
    """The plan's target, then those that are shot beside it. Raises UnknownName."""
    first = plan.target_named()
    others = [plan.target_named(n) for n in plan.with_targets]
    return [first, *(t for t in others if t.name != first.name)]


def aim_of(
    target: TargetThing,
    plan: PlanState,
    held: Mapping[str, Held],
    channels: Sequence[str],
    panels: int = 1,
) -> Aim:
    """A target with what is wanted of it in ``channels``, of so many panels."""
    first = target.name == plan.target_named().name
    channels = [c for c in channels if _is_wanted(c, target, plan, held, first)] or channels
    colour = COLOUR_SNR if "L" in channels else GOAL_SNR
    return Aim(
        target.name,
        Target(target.ra, target.dec),
        glow(target),
        {c: _demand(c, target, plan, held.get(c, Held()), first, colour, panels) for c in channels},
        target.priority,
        target.star_mag,
        _core_times(target),
    )


def _core_times(target: TargetThing) -> float | None:
    """How many times brighter than its faint parts a core is that must survive."""
    if not target.keep_core or target.core_mag is None:
        return None
    return float(10 ** (0.4 * (surface_of(target.kind, target.surface_mag) - target.core_mag)))


def _is_wanted(
    channel: str, target: TargetThing, plan: PlanState, held: Mapping[str, Held], first: bool
) -> bool:
    """Whether a channel is usual for the kind of target, or was shot, or is asked for."""
    usual = channel in _USUAL.get(target.kind, (*LINES, *COLOURS))
    asked = first and plan.goal_mode == "typed" and plan.goals.get(channel, 0.0) > 0
    return usual or asked or plan.goal_mode == "even" or held.get(channel, Held()).hours > 0


def glow(target: TargetThing) -> Glow:
    """A target's light."""
    return glow_of(target.kind, target.rayleigh, target.surface_mag)


def channels_of(stations: Sequence[Station]) -> list[str]:
    """Channels that the filters of stations serve."""
    served = {b.channel for s in stations for f in s.filters for b in f.bands}
    return sorted(served, key=channel_order)


def _goal(plan: PlanState, channel: str, first: bool) -> float | None:
    """Hours of a panel that the person set; None leaves it to the deficit."""
    if plan.goal_mode == "even":
        return plan.even_hours
    return plan.goals.get(channel) if plan.goal_mode == "typed" and first else None


def _demand(
    channel: str,
    target: TargetThing,
    plan: PlanState,
    held: Held,
    first: bool,
    colour_snr: float,
    panels: int,
) -> Demand:
    """What is wanted of a channel: hours that were set, or what a stack lacks (of all panels); of
    what shines in lines colours for the stars alone; else an SNR.
    """
    goal = _goal(plan, channel, first)
    if goal is None and held.factor is not None:
        return Demand(held.hours, (held.measured_h or held.hours) * held.factor**2, panels)
    if goal is None and target.kind in _LINE_KINDS and channel not in LINES:
        goal = STAR_COLOURS_H
    wanted = goal * panels if goal is not None else None
    return Demand(held.hours, wanted, panels, colour_snr if channel in COLOURS else GOAL_SNR)


def _awake(site: SiteThing, date: dt.date) -> Span:
    """The hours of a night in which somebody is there."""
    zone = zone_of(site)
    start, end = (
        dt.datetime.combine(date, dt.time(12), zone) + dt.timedelta(days=n) for n in (0, 1)
    )
    on = site.not_after_on
    if site.not_before:
        start = max(start, _evening(site.not_before, date, zone))
    if site.not_after and (not on or _WEEKDAYS[date.weekday()] in on):
        end = min(end, _evening(site.not_after, date, zone))
    return julian(start.astimezone(dt.UTC)), julian(end.astimezone(dt.UTC))


def _evening(text: str, date: dt.date, zone: ZoneInfo) -> dt.datetime:
    """A time of day in the night of a date: before noon it is the morning after."""
    hour, minute = (int(part) for part in text.split(":"))
    day = date if hour >= 12 else date + dt.timedelta(days=1)
    return dt.datetime.combine(day, dt.time(hour, minute), zone)

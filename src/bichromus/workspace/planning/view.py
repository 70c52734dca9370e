"""From what a project knows to a plan that can be shown: one frozen value for one state."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Final
from zoneinfo import ZoneInfo

import numpy as np

from ...core.advise import Advice
from ...core.advise.tonight import advise_tonight
from ...core.model.planes import F32
from ...core.plan.coming import NIGHTS, Coming, Weather, plan_coming
from ...core.plan.dates import date_of, julian, local_time
from ...core.plan.filter_check import FilterCheck, check_filter
from ...core.plan.framing import Field, Framing, area, common_field, frame
from ...core.plan.laying import Block
from ...core.plan.mosaic import Pointing
from ...core.plan.night import Night, Target
from ...core.plan.order import OrderCost, cost
from ...core.plan.season import Season, SeasonNight, plan_season, season_of
from ...core.plan.station import Aim
from ...core.plan.through import ChannelPlan, SkyPath, dark_path, moon_factor
from ...core.plan.tonight import Lane
from ...core.simulate.forecast import Forecast, read_forecast, simulate_forecast
from ...core.simulate.outlook import SkyLight, simulate_outlook
from ..library.things import FilterThing, PlanState, RigThing, SiteThing, TargetThing
from .equivalent import Counted, counted_hours, weighed
from .held import Held
from .mosaic import Mosaic, held_of_panels, mosaic_of, panel_count
from .stations import (
    aim_of,
    channels_of,
    filter_of,
    place_of,
    rules_of,
    stations_of,
    targets_of,
    zone_of,
)

STRIP_NIGHTS = 14
_CLOUDY: Final = 0.5
"""Share of the sky under cloud from which an hour is not planned."""
_NIGHT_HOURS: Final = 4
"""Hours that a forecast must know of a coming night to tell its chance."""


@dataclass(frozen=True)
class Tonight:
    """What comes of tonight for the plan's target: hours of open shutter by channel, from all rigs
    in hours of the one that they are told for, and what they are worth in hours under a dark sky;
    what blocks and turns would cost the plan's rig, and its blocks of all targets.
    """

    blocks: tuple[Block, ...]
    hours: dict[str, float]
    gained: dict[str, float]
    block_cost: OrderCost
    cycle_cost: OrderCost


@dataclass(frozen=True)
class PlanView:
    """All that the Plan step shows. ``forecast`` serves the rehearsal; ``weather_known``: somebody
    gave it, or it is the demo's, so that the plan goes by it. ``hour_gain`` is what an hour tonight
    counts of one under a dark sky, ``moon_factor`` how many times brighter the Moon makes the sky
    of a channel at most, ``dark`` the sky that hours are told for.
    """

    site: SiteThing
    rig: RigThing
    target: TargetThing
    night: Night
    sun_below: float
    strip: tuple[SeasonNight, ...]
    channels: tuple[ChannelPlan, ...]
    tonight: Tonight
    coming: Coming
    zones: dict[str, ZoneInfo]
    forecast: Forecast
    weather_known: bool
    cloudy: tuple[tuple[float, float], ...]
    frame: Framing
    fields: tuple[Field, ...]
    checks: tuple[FilterCheck, ...]
    advice: Advice | None
    zone: ZoneInfo
    overlap: float
    shared: dict[str, float]
    hour_gain: dict[str, float]
    moon_factor: dict[str, float]
    season: Season | None
    dark: SkyPath
    mosaic: Mosaic | None
    camera_angle: float
    counted: dict[str, Counted]

    @property
    def lanes(self) -> tuple[Lane, ...]:
        """Tonight of every rig, the plan's first."""
        return self.coming.lanes

    def clock(self, jd: float) -> str:
        """Local time of day."""
        return local_time(jd, self.zone)


@dataclass(frozen=True)
class Begun:
    """A night that is being shot: what is left of it, and the channels (``Ha+O3``) of the filter
    that was shot last.
    """

    since: dt.datetime
    channels: str = ""


HeldOf = Mapping[str, Mapping[str, Held]]
"""What is held of each target, by channel."""


def make_plan(
    plan: PlanState,
    held: Mapping[str, Held],
    now: dt.datetime,
    others: HeldOf | None = None,
    begun: Begun | None = None,
    pointings: Sequence[Pointing] = (),
) -> PlanView:
    """The plan for the chosen site, rigs, targets and night; ``held`` of the chosen target, and of
    ``others`` by name; of a night that has ``begun`` what is left. Raises InputError when a thing
    is missing.
    """
    site, rig, target = plan.site_named(), plan.rig_named(), plan.target_named()
    zone, place, rules = zone_of(site), place_of(site), rules_of(plan, site)
    date = _date(plan, now, site)
    dates = [date + dt.timedelta(days=n) for n in range(NIGHTS)]
    aim = Target(target.ra, target.dec)
    strip = plan_season(place, date, dates[STRIP_NIGHTS - 1], aim, rules)
    forecast = _forecast(plan, site, date)
    # no weather that was invented shortens a plan
    known = plan.fixed_clock or not forecast.simulated
    weather = _weather(plan, forecast, known, dates, zone)
    stations = stations_of(plan, dates)
    channels = channels_of(stations)
    shape = _frame(plan, rig, target)
    panels = panel_count(shape)
    if panels > 1 and plan.panels_done:
        held = {c: replace(held.get(c, Held()), hours=held_of_panels(plan, c)) for c in channels}
    counts: list[dict[str, Counted]] = []
    aims: list[Aim] = []
    for t in targets_of(plan):  # the plan's first
        mine, of_panels = ((others or {}).get(t.name, {}), 1) if aims else (held, panels)
        look = partial(aim_of, t, plan, channels=channels, panels=of_panels)
        counts.append(counted_hours(plan, stations, look(held=mine), mine))
        aims.append(look(held=weighed(mine, counts[-1])))
    every = plan.cycle_every if plan.order == "cycle" else None
    coming = plan_coming(
        stations,
        aims,
        date,
        weather,
        every=every,
        since=None if begun is None else julian(begun.since),
        current=None if begun is None else _current(plan, rig, target, begun),
    )
    first = coming.lanes[0]
    night = first.nights[target.name]
    zones = {s.name: zone_of(plan.site_named(s.site)) for s in stations}
    fields = tuple(_field(r, plan.camera_angle if r.name == rig.name else 0.0) for r in plan.rigs)
    return PlanView(
        site,
        rig,
        target,
        night,
        plan.sun_below,
        tuple(strip),
        coming.channels.get(target.name, ()),
        _tonight(coming, target.name, plan),
        coming,
        zones,
        forecast,
        known,
        weather.cloudy,
        shape,
        fields,
        tuple(check_optics(f, rig) for f in plan.filters_of(rig)),
        advise_tonight(coming, aims[0], partial(local_time, zone=zone), bool(weather.cloudy)),
        zone,
        plan.overlap,
        _shared(fields),
        _hour_gain(coming, target.name),
        _moon_factors(coming, target.name),
        season_of(place, date.replace(day=1), aim, rules),
        dark_path(stations[0], aims[0]),
        mosaic_of(plan, target, shape, coming.channels.get(target.name, ()), pointings),
        plan.camera_angle,
        counts[0],
    )


def _frame(plan: PlanState, rig: RigThing, target: TargetThing) -> Framing:
    return frame(
        rig.focal,
        rig.pixel_um,
        rig.sensor_mm,
        target=_degrees(target),
        overlap=plan.overlap,
        turned_deg=target.angle - plan.camera_angle,
        fwhm_arcsec=rig.fwhm_arcsec,
    )


def _current(
    plan: PlanState, rig: RigThing, target: TargetThing, begun: Begun
) -> tuple[str, str] | None:
    """The filter that is being shot, on the plan's target."""
    names = [f.name for f in plan.filters_of(rig) if "+".join(f.channels) == begun.channels]
    return (target.name, names[0]) if names else None


def _tonight(coming: Coming, target: str, plan: PlanState) -> Tonight:
    first = coming.lanes[0]
    hours: dict[str, float] = {}
    units = {c.channel: c.per_hour for c in coming.channels.get(target, ())}
    rates = {(t.station, t.filter): t.alone for t in coming.throughs if t.aim == target}
    for lane in coming.lanes:
        for block in lane.blocks:
            if block.target == target:
                alone = rates[lane.station.name, block.filter]
                for channel in block.channels:
                    unit = units.get(channel, 0.0)
                    share = alone.get(channel, unit) / unit if unit > 0 else 1.0
                    hours[channel] = hours.get(channel, 0.0) + share * block.hours
    added = coming.added
    worth = {
        c.channel: added[target, c.channel] / c.per_hour
        for c in coming.channels.get(target, ())
        if (target, c.channel) in added and c.per_hour > 0
    }
    counts: dict[str, int] = {}
    for block in first.blocks:
        counts[block.filter] = counts.get(block.filter, 0) + block.subs
    lengths = {b.filter: b.sub_s for b in first.blocks}
    ways = [
        cost(counts, lengths, every, first.station.overheads) for every in (None, plan.cycle_every)
    ]
    return Tonight(first.blocks, hours, worth, ways[0], ways[1])


def _hour_gain(coming: Coming, target: str) -> dict[str, float]:
    """What an hour of tonight counts of one under a dark sky, on average; 1 without hours."""
    out = {}
    first = coming.lanes[0]
    hours = sum(s.hours for s in first.stretches)
    for c in coming.channels.get(target, ()):
        worth = 0.0
        for stretch, curves in zip(first.stretches, first.curves, strict=True):
            rates = [g.get(c.channel, 0.0) for k, g in curves.means.items() if k[0] == target]
            worth += max(rates, default=0.0) * stretch.hours
        out[c.channel] = worth / hours / c.per_hour if hours > 0 and c.per_hour > 0 else 1.0
    return out


def _moon_factors(coming: Coming, target: str) -> dict[str, float]:
    """How many times brighter the Moon makes the sky of each channel tonight, at most."""
    paths = [c.paths[target] for c in coming.lanes[0].curves if target in c.paths]
    out = {}
    for c in coming.channels.get(target, ()):
        through = next(
            t
            for t in coming.throughs
            if (t.station, t.aim, t.filter) == (c.station, target, c.filter)
        )
        out[c.channel] = max((moon_factor(through, c.channel, p) for p in paths), default=1.0)
    return out


def check_optics(f: FilterThing, rig: RigThing) -> FilterCheck:
    """A filter in this rig's beam."""
    return check_filter(rig.as_rig(), filter_of(f), f.clear_mm, f.distance_mm, rig.sensor_mm)


def _date(plan: PlanState, now: dt.datetime, site: SiteThing) -> dt.date:
    """The chosen night; tonight when none is chosen or it is over. The demo has a clock of
    its own.
    """
    tonight = date_of(now, place_of(site))
    chosen = dt.date.fromisoformat(plan.date) if plan.date else tonight
    return chosen if plan.fixed_clock else max(chosen, tonight)


def _forecast(plan: PlanState, site: SiteThing, date: dt.date) -> Forecast:
    if plan.forecast_csv:
        return read_forecast(Path(plan.forecast_csv))
    noon = dt.datetime.combine(date, dt.time(12), dt.UTC) - dt.timedelta(hours=site.lon / 15)
    return simulate_forecast(site.lat, site.lon, noon)


def _weather(
    plan: PlanState, forecast: Forecast, known: bool, dates: list[dt.date], zone: ZoneInfo
) -> Weather:
    """Clouds of tonight, and the chance of later nights that a person's own forecast tells of."""
    if not known:
        return Weather(plan.clear_chance)
    cloudy = tuple(
        (julian(h.start), julian(h.start) + 1 / 24) for h in forecast.hours if h.cloud > _CLOUDY
    )
    chances: dict[dt.date, float] = {}
    for date in dates[1:] if not forecast.simulated else ():
        dusk = dt.datetime.combine(date, dt.time(19), zone)
        clear = [
            1 - h.cloud for h in forecast.hours if dusk <= h.start < dusk + dt.timedelta(hours=10)
        ]
        if len(clear) >= _NIGHT_HOURS:
            chances[date] = float(np.mean(clear))
    return Weather(plan.clear_chance, chances, cloudy)


def _shared(fields: tuple[Field, ...]) -> dict[str, float]:
    """How much of each rig's field all rigs see."""
    if len(fields) < 2:
        return {}
    common = common_field(fields)
    size = area(common) if common else 0.0
    return {f.name: size / (f.width * f.height) for f in fields}


def _degrees(target: TargetThing) -> tuple[float, float]:
    return target.size_arcmin[0] / 60, target.size_arcmin[1] / 60


def _field(rig: RigThing, angle: float) -> Field:
    made = frame(rig.focal, rig.pixel_um, rig.sensor_mm)
    return Field(rig.name, made.field[0], made.field[1], angle)


def outlook(view: PlanView, channel: str, shape: tuple[int, int] = (166, 182)) -> tuple[F32, F32]:
    """What one sub and the finished stack of a channel would look like: grey codes 0 to 1, from the
    simulator.
    """
    plan = next(c for c in view.channels if c.channel == channel)
    rig = view.rig
    light = SkyLight(
        plan.target_e_s,
        plan.sky_e_s,
        rig.dark_e_s,
        rig.read_noise,
        view.frame.scale_arcsec,
        rig.fwhm_arcsec,
    )
    hours = max(plan.wanted_h, plan.had_h, plan.sub.sub_s / 3600)
    return simulate_outlook(channel, light, plan.sub.sub_s, hours, view.target.size_arcmin, shape)

"""From what a project knows to a plan that can be shown: one frozen value for one state."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from ...core.advise import Advice
from ...core.advise.tonight import advise_tonight
from ...core.model.channel import CHANNELS
from ...core.model.errors import InputError
from ...core.model.planes import F32
from ...core.plan.allocate import Allocation
from ...core.plan.dates import date_of, julian, moment_of
from ...core.plan.earth import Place
from ...core.plan.framing import Field, Framing, area, common_field, frame
from ...core.plan.horizon import make_horizon
from ...core.plan.night import Night, Rules, Target, plan_night
from ...core.plan.order import Overheads
from ...core.plan.program import (
    ChannelInput,
    ChannelPlan,
    NightPlan,
    gain_of_hour,
    plan_channel,
    plan_nights,
    plan_tonight,
)
from ...core.plan.rates import (
    FilterCheck,
    check_filter,
    optics_of,
    pixel_share,
    target_rate,
)
from ...core.plan.season import SeasonNight, plan_season
from ...core.plan.segments import segments_of
from ...core.plan.sky import moon_nanolamberts, phase_angle
from ...core.simulate.forecast import Forecast, read_forecast, simulate_forecast
from ...core.simulate.outlook import SkyLight, simulate_outlook
from ..library.things import FilterThing, PlanState, RigThing, SiteThing, TargetThing
from .held import Held

STRIP_NIGHTS = 14
_CLOUDY = 0.5
"""Share of the sky under cloud from which an hour is not planned."""
_MOON_ZENITH, _TARGET_ZENITH = 50.0, 35.0
"""Of nights to come the Moon and the target are taken at a middling height, degrees from zenith."""


@dataclass(frozen=True)
class PlanView:
    """All that the Plan step shows. ``forecast`` serves the rehearsal; ``weather_known``: somebody
    gave it, or it is the demo's, so that the plan goes by it.
    """

    site: SiteThing
    rig: RigThing
    target: TargetThing
    night: Night
    strip: tuple[SeasonNight, ...]
    channels: tuple[ChannelPlan, ...]
    tonight: NightPlan
    coming: Allocation | None
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

    def clock(self, jd: float) -> str:
        """Local time of day."""
        return moment_of(jd).astimezone(self.zone).strftime("%H:%M")


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


def make_plan(plan: PlanState, held: Mapping[str, Held], now: dt.datetime) -> PlanView:
    """The plan for the chosen site, rig, target and night. Raises InputError when a thing is
    missing.
    """
    site, rig, target = plan.site_named(), plan.rig_named(), plan.target_named()
    zone = zone_of(site)
    place = Place(site.lat, site.lon, site.elevation_m)
    date = _date(plan, now, place)
    rules = Rules(plan.min_altitude, plan.sun_below, horizon=make_horizon(site.horizon))
    aim = Target(target.ra, target.dec)
    night = plan_night(place, date, aim, rules)
    strip = plan_season(place, date, date + dt.timedelta(days=STRIP_NIGHTS - 1), aim, rules)
    forecast = _forecast(plan, site, night)
    known = plan.fixed_clock or not forecast.simulated
    cloudy = tuple(  # no weather that was invented shortens a plan
        (julian(h.start), julian(h.start) + 1 / 24)
        for h in forecast.hours
        if known and h.cloud > _CLOUDY
    )
    inputs: dict[str, ChannelInput] = {
        f.channel: channel_input(f, rig, site, target, held.get(f.channel, Held()), plan)
        for f in plan.filters
    }
    segments = segments_of(night, cloudy)
    overheads = Overheads(
        plan.download_s, dither_every=plan.dither_every, refocus_min=plan.refocus_min
    )
    moonlight = max((s.moon_nl for s in segments), default=0.0)
    plans = tuple(
        plan_channel(c, plan.max_sub_s, moonlight, overhead_s=overheads.of_a_sub_s)
        for c in (inputs[n] for n in CHANNELS if n in inputs)
    )
    tonight = plan_tonight(
        segments,
        plans,
        inputs,
        plan.cycle_every if plan.order == "cycle" else None,
        overheads,
        night.target.transit if night.target else None,
    )
    coming = plan_nights(
        [
            (
                n.date.isoformat(),
                n.open_moonless_hours or 0.0,
                (n.open_hours or 0.0) - (n.open_moonless_hours or 0.0),
                moon_nanolamberts(
                    phase_angle(n.lit), _MOON_ZENITH, _TARGET_ZENITH, n.separation or 60.0
                ),
            )
            for n in strip[1:]
        ],
        _after(plans, tonight),
        inputs,
    )
    shape = frame(
        rig.focal,
        rig.pixel_um,
        rig.sensor_mm,
        target=_degrees(target),
        overlap=plan.overlap,
        turned_deg=target.angle - plan.camera_angle,
        fwhm_arcsec=rig.fwhm_arcsec,
    )
    whole = bool(segments_of(night)) and not segments

    def clock(jd: float) -> str:
        return moment_of(jd).astimezone(zone).strftime("%H:%M")

    fields = tuple(_field(r, plan.camera_angle if r.name == rig.name else 0.0) for r in plan.rigs)
    advice = advise_tonight(night, tonight, plans, target.name, site.name, clock, whole)
    return PlanView(
        site,
        rig,
        target,
        night,
        tuple(strip),
        plans,
        tonight,
        coming,
        forecast,
        known,
        cloudy,
        shape,
        fields,
        tuple(check_optics(f, rig) for f in plan.filters),
        advice,
        zone,
        plan.overlap,
        _shared(fields),
        {p.channel: gain_of_hour(p, inputs[p.channel], segments) for p in plans},
    )


def channel_input(
    f: FilterThing, rig: RigThing, site: SiteThing, target: TargetThing, held: Held, plan: PlanState
) -> ChannelInput:
    """A filter on a rig under a site's sky, for the program."""
    own = rig.as_rig()
    optics = optics_of(own, f.channel, f.width_nm, f.transmission)
    return ChannelInput(
        f.channel,
        optics,
        target_rate(optics, target.rayleigh.get(f.channel)),
        site.sky_mag,
        rig.fwhm_arcsec / optics.scale_arcsec,
        rig.full_well_e,
        hours_had=held.hours,
        factor=held.factor,
        measured_hours=held.measured_h,
        goal_hours=_goal(plan, f.channel),
        pixel_share=pixel_share(own, f.channel),
    )


def check_optics(f: FilterThing, rig: RigThing) -> FilterCheck:
    """A narrow filter in this rig's beam."""
    return check_filter(
        rig.as_rig(),
        f.channel,
        f.width_nm,
        f.index,
        f.clear_mm,
        f.distance_mm,
        rig.sensor_mm,
    )


def _date(plan: PlanState, now: dt.datetime, place: Place) -> dt.date:
    """The chosen night; tonight when none is chosen or it is over. The demo has a clock of
    its own.
    """
    tonight = date_of(now, place)
    chosen = dt.date.fromisoformat(plan.date) if plan.date else tonight
    return chosen if plan.fixed_clock else max(chosen, tonight)


def _goal(plan: PlanState, channel: str) -> float | None:
    """Hours wanted where the person set them; None leaves it to the deficit."""
    if plan.goal_mode == "even":
        return plan.even_hours
    return plan.goals.get(channel) if plan.goal_mode == "typed" else None


def _forecast(plan: PlanState, site: SiteThing, night: Night) -> Forecast:
    if plan.forecast_csv:
        return read_forecast(Path(plan.forecast_csv))
    return simulate_forecast(site.lat, site.lon, moment_of(night.start))


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
        rig.read_noise_e,
        view.frame.scale_arcsec,
        rig.fwhm_arcsec,
    )
    hours = max(plan.wanted_h, plan.had_h, plan.sub.sub_s / 3600)
    return simulate_outlook(channel, light, plan.sub.sub_s, hours, view.target.size_arcmin, shape)


def _after(plans: tuple[ChannelPlan, ...], tonight: NightPlan) -> list[ChannelPlan]:
    return [replace(p, had_h=p.had_h + tonight.gained.get(p.channel, 0.0)) for p in plans]

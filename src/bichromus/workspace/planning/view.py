"""From what a project knows to a plan that can be shown: one frozen value for one state."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np

from ...core.advise import Advice
from ...core.advise.tonight import advise_tonight
from ...core.blend.stretch import Curve
from ...core.model.channel import CHANNELS, WAVELENGTH_NM
from ...core.model.errors import InputError
from ...core.model.planes import F32
from ...core.model.recipe import Stretch
from ...core.numerics.smoothing import gaussian
from ...core.plan.allocate import Allocation
from ...core.plan.earth import Place
from ...core.plan.exposure import Optics
from ...core.plan.framing import Field, Frame, area, common_field, frame
from ...core.plan.horizon import make_horizon
from ...core.plan.night import Night, Rules, Target, date_of, julian, moment_of, plan_night
from ...core.plan.optics import S2_PAIR_NM, clear_needed, corner_light, filter_shift
from ...core.plan.order import Overheads
from ...core.plan.program import (
    ChannelInput,
    ChannelPlan,
    NightPlan,
    plan_channel,
    plan_nights,
    plan_tonight,
    segments_of,
    worth_of_hour,
)
from ...core.plan.season import SeasonNight, plan_season
from ...core.plan.sky import moon_nanolamberts, phase_angle
from ...core.simulate.forecast import Forecast, read_forecast, simulate_forecast
from ...core.simulate.scene import SceneRecipe, make_scene
from ..library.things import FilterThing, PlanState, RigThing, SiteThing, TargetThing

STRIP_NIGHTS = 14
_CLOUDY = 0.5
# of nights to come the Moon is taken at a middling height
_MOON_ZENITH, _TARGET_ZENITH = 50.0, 35.0
# a colour camera sees red lines on a quarter of its pixels (SNR 0.50 of mono), O3 on green and blue
# (0.76)
_COLOUR_SHARE = {"Ha": 0.25, "S2": 0.25, "R": 0.25, "B": 0.25, "G": 0.5, "O3": 0.58, "Hb": 0.58}
# surface brightness of a faint glow in broadband, AB mag/arcsec2, where a target says nothing of it
_BROAD_AB = 23.5


@dataclass(frozen=True)
class Held:
    """What a channel holds: hours, and how many times its noise must fall (None: not measured, or
    not in the blend), as measured on a stack of ``measured_h``.
    """

    hours: float = 0.0
    factor: float | None = None
    measured_h: float | None = None


@dataclass(frozen=True)
class OpticsCheck:
    """The filter at the rig's focal ratio: what it keeps of the line, the corner's light, the clear
    aperture needed.
    """

    channel: str
    kept: float | None
    corner: float
    clear_needed_mm: float

    @property
    def wants(self) -> bool:
        """Whether it is worth a warning."""
        return self.corner < 0.95 or (self.kept is not None and self.kept < 0.85)


@dataclass(frozen=True)
class PlanView:
    """All that the Plan step shows."""

    site: SiteThing
    rig: RigThing
    target: TargetThing
    night: Night
    strip: tuple[SeasonNight, ...]
    channels: tuple[ChannelPlan, ...]
    tonight: NightPlan
    coming: Allocation | None
    forecast: Forecast
    cloudy: tuple[tuple[float, float], ...]
    frame: Frame
    fields: tuple[Field, ...]
    checks: tuple[OpticsCheck, ...]
    advice: Advice | None
    zone: ZoneInfo
    overlap: float
    shared: dict[str, float]
    hour_worth: dict[str, float]

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
    cloudy = tuple(
        (julian(h.start), julian(h.start) + 1 / 24) for h in forecast.hours if h.cloud > _CLOUDY
    )
    inputs: dict[str, ChannelInput] = {
        f.channel: channel_input(f, rig, site, target, held.get(f.channel, Held()), plan)
        for f in plan.filters
    }
    segments = segments_of(night, cloudy)
    plans = tuple(
        plan_channel(c, plan.max_sub_s, max((s.moon_nl for s in segments), default=0.0))
        for c in (inputs[n] for n in CHANNELS if n in inputs)
    )
    tonight = plan_tonight(
        segments,
        plans,
        inputs,
        plan.cycle_every if plan.order == "cycle" else None,
        Overheads(plan.download_s, dither_every=plan.dither_every, refocus_min=plan.refocus_min),
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
        cloudy,
        shape,
        fields,
        tuple(check_optics(f, rig) for f in plan.filters),
        advice,
        zone,
        plan.overlap,
        _shared(fields),
        {p.channel: worth_of_hour(p, inputs[p.channel], segments) for p in plans},
    )


def channel_input(
    f: FilterThing, rig: RigThing, site: SiteThing, target: TargetThing, held: Held, plan: PlanState
) -> ChannelInput:
    """A filter on a rig under a site's sky, for the program."""
    wavelength = WAVELENGTH_NM[f.channel]
    efficiency = rig.throughput * rig.quantum_efficiency * f.transmission
    optics = Optics(
        rig.aperture_mm,
        rig.focal,
        rig.pixel_um,
        efficiency,
        wavelength,
        f.width_nm,
        rig.read_noise_e,
        rig.obstruction,
        rig.dark_e_s,
    )
    if f.channel in target.rayleigh:
        shines = optics.line_e_s(target.rayleigh[f.channel])
    else:
        shines = optics.surface_e_s(_BROAD_AB)
    return ChannelInput(
        f.channel,
        optics,
        shines,
        site.sky_mag,
        rig.fwhm_arcsec / optics.scale_arcsec,
        rig.full_well_e,
        hours_had=held.hours,
        factor=held.factor,
        measured_hours=held.measured_h,
        goal_hours=_goal(plan, f.channel),
        pixel_share=_COLOUR_SHARE.get(f.channel, 1.0) if rig.colour else 1.0,
    )


def check_optics(f: FilterThing, rig: RigThing) -> OpticsCheck:
    """A narrow filter in this rig's beam."""
    ratio = rig.focal / rig.aperture_mm
    diagonal = (rig.sensor_mm[0] ** 2 + rig.sensor_mm[1] ** 2) ** 0.5
    kept = None
    if f.width_nm <= 20:
        lines = S2_PAIR_NM if f.channel == "S2" else (WAVELENGTH_NM[f.channel],)
        kept = filter_shift(
            ratio, lines, WAVELENGTH_NM[f.channel], f.width_nm, f.index, rig.obstruction, "flat"
        ).transmission
    return OpticsCheck(
        f.channel,
        kept,
        corner_light(f.clear_mm, diagonal, f.distance_mm, ratio),
        clear_needed(diagonal, f.distance_mm, ratio),
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


def nights_needed(view: PlanView) -> int | None:
    """Nights until every goal is reached, tonight included; None when fourteen are not enough."""
    if all(c.missing_h <= 0.02 for c in view.channels):
        return 0
    if view.coming is None:
        left = [c.missing_h - view.tonight.gained.get(c.channel, 0.0) for c in view.channels]
        return 1 if max(left) <= 0.02 else None
    if view.coming.share < 0.999:
        return None
    used = [
        name for name, hours in view.coming.hours.items() if any(h > 0.05 for h in hours.values())
    ]
    return 1 + len({name.partition(" ")[0] for name in used})


def _after(plans: tuple[ChannelPlan, ...], tonight: NightPlan) -> list[ChannelPlan]:
    return [replace(p, had_h=p.had_h + tonight.gained.get(p.channel, 0.0)) for p in plans]


def _degrees(target: TargetThing) -> tuple[float, float]:
    return target.size_arcmin[0] / 60, target.size_arcmin[1] / 60


def _field(rig: RigThing, angle: float) -> Field:
    made = frame(rig.focal, rig.pixel_um, rig.sensor_mm)
    return Field(rig.name, made.field[0], made.field[1], angle)


def year_of(view: PlanView, plan: PlanState) -> list[SeasonNight]:
    """Every night of the year that begins with the planned one."""
    place = Place(view.site.lat, view.site.lon, view.site.elevation_m)
    rules = Rules(plan.min_altitude, plan.sun_below, horizon=make_horizon(view.site.horizon))
    return plan_season(
        place,
        view.night.date,
        view.night.date + dt.timedelta(days=364),
        Target(view.target.ra, view.target.dec),
        rules,
    )


def rehearse(view: PlanView, channel: str, shape: tuple[int, int] = (166, 182)) -> tuple[F32, F32]:
    """What one sub and the finished stack of a channel would look like: grey codes 0 to 1, from the
    simulator.
    """
    plan = next(c for c in view.channels if c.channel == channel)
    rig = view.rig
    width = max(view.target.size_arcmin[0] * 60 * 1.5, shape[1] * view.frame.scale_arcsec)
    scale = width / shape[1]  # one pixel here stands for several of the camera
    binned = (scale / view.frame.scale_arcsec) ** 2
    half = (view.target.size_arcmin[0] / 2, view.target.size_arcmin[1] / 2)
    scene = make_scene(shape, scale, 12, SceneRecipe(half_size_arcmin=half, star_count=1200))
    line = scene.lines.get(channel, scene.lines["Ha"])
    glow = line / np.float32(np.quantile(line, 0.9)) * np.float32(plan.target_e_s)
    seen = gaussian(glow.astype(np.float32), max(rig.fwhm_arcsec / scale / 2.355, 0.8))
    hours = max(plan.wanted_h, plan.had_h, plan.sub.sub_s / 3600)
    pictures = []
    for number, subs in enumerate((1, max(round(hours * 3600 / plan.sub.sub_s), 1))):
        rng = np.random.default_rng([12, number])
        light = (seen + np.float32(plan.sky_e_s + rig.dark_e_s)) * np.float32(
            plan.sub.sub_s * binned
        )
        noise = rig.read_noise_e * np.sqrt(binned * subs)
        counts = rng.poisson(light * subs) + rng.normal(0, noise, shape)
        level = counts / subs - (plan.sky_e_s + rig.dark_e_s) * plan.sub.sub_s * binned
        signal = plan.target_e_s * plan.sub.sub_s * binned
        curve = Curve(Stretch(), 20.0)
        pictures.append(
            np.clip(curve((level / signal).astype(np.float32)), 0, 1).astype(np.float32)
        )
    return pictures[0], pictures[1]

"""A filter of a station on a target: how long its subs are, and what an hour brings to each channel
under every sky of a night.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from .bodies import Ephemeris, lit_share
from .budget import BandFilter, BandLight, band_light
from .earth import F64
from .exposure import SubAdvice, advise_sub, saturation_time, snr
from .night import Track, track
from .sky import airmasses, moonlight, sky_ab
from .station import Aim, Station
from .worth import LENGTHS_S, SHORTEST_S, Worth

_BEAM_PIXELS: Final = 2.27  # pixels of a star's beam over FWHM squared
_READ_SHARE: Final = 0.05  # noise that the read noise may add to a sub
_LOWEST_DEG: Final = 5.0


@dataclass(frozen=True)
class SkyPath:
    """The sky on a target at moments (N,): airmass, glow (a factor), moonlight in nanolamberts,
    the Sun's depression in degrees.
    """

    airmass: F64
    glow: F64
    moon_nl: F64
    sun_down: F64


def sky_path(station: Station, aim: Aim, utc: F64, sky: Ephemeris) -> tuple[SkyPath, Track]:
    """At UTC Julian days (N,)."""
    path = track(station.place, utc, aim.target, station.rules, sky)
    assert path.target is not None
    assert path.azimuth is not None
    assert path.moon_distance is not None
    up = np.maximum(path.target, _LOWEST_DEG)
    phase = np.rad2deg(np.arccos(np.clip(2 * lit_share(sky.sun(utc), sky.moon(utc)) - 1, -1, 1)))
    moon = moonlight(phase, 90 - path.moon, 90 - up, path.moon_distance)
    glow = station.sky.brighter(path.azimuth)
    return SkyPath(airmasses(up), glow, moon, -path.sun), path


def dark_path(station: Station, aim: Aim) -> SkyPath:
    """One moment: the target at its highest, no Moon, no Sun."""
    highest = max(90 - abs(station.place.lat - aim.target.dec), station.rules.min_altitude)
    one = np.ones(1)
    return SkyPath(airmasses(highest * one), one, 0 * one, 90 * one)


@dataclass(frozen=True)
class Through:
    """A filter of a station on an aim: the light of its bands, and its sub with what it is
    ``worth``. ``alone`` is what an hour under a dark sky adds to SNR squared, by channel;
    ``core_s`` the round length in which the core does not fill, where it is to survive and the sub
    is longer.
    """

    station: str
    aim: str
    filter: str
    bands: tuple[BandLight, ...]
    pixels: Mapping[str, float]
    read_noise_e: float
    dark_e_s: float
    sub: SubAdvice
    worth: Worth
    alone: Mapping[str, float]
    core_s: float | None = None

    @property
    def channels(self) -> tuple[str, ...]:
        """The channels that it serves."""
        return tuple(b.channel for b in self.bands)

    def light(self, path: SkyPath) -> dict[str, tuple[F64, F64]]:
        """Target and sky of each channel, e-/s and pixel at moments (N,)."""
        out = {}
        for band in self.bands:
            parts = band.sky_parts(path.glow, path.moon_nl, path.sun_down)
            out[band.channel] = band.target(path.airmass), sum(parts.values(), np.zeros(1))
        return out

    def per_hour(self, path: SkyPath) -> dict[str, F64]:
        """SNR squared of each channel that an hour of open shutter adds at moments (N,)."""
        read = self.read_noise_e**2 / self.sub.sub_s
        return {
            channel: self.pixels[channel]
            * 3600
            * target**2
            / np.maximum(target + sky + self.dark_e_s + read, 1e-30)
            for channel, (target, sky) in self.light(path).items()
        }


def through_of(station: Station, filter_: BandFilter, aim: Aim) -> Through | None:
    """A station's filter on an aim; None where a mono camera cannot part its bands."""
    if len(filter_.bands) > 1 and not station.rig.colour:
        return None
    bands = tuple(
        band_light(station.rig, filter_, b, aim.glow, sky_ab(b.channel, station.sky.mag))
        for b in filter_.bands
    )
    pixels = {b.channel: _BEAM_PIXELS * station.fwhm_px**2 * b.pixel_share for b in bands}
    path = dark_path(station, aim)
    # the weaker line governs the length
    light = [
        (
            float(b.target(path.airmass)[0]),
            float(sum(v[0] for v in b.sky_parts(path.glow, path.moon_nl, path.sun_down).values())),
            b,
        )
        for b in bands
    ]
    target, sky, _ = min(light, key=lambda one: one[0] + one[1])
    dark, read = station.rig.dark_e_s, station.rig.read_noise_e
    worth = Worth(
        target + sky + dark,
        read,
        station.overheads.of_a_sub_s,
        most_s=max(station.longest_s, SHORTEST_S),
    )
    length = worth.advised()
    full = [
        saturation_time(
            station.full_well_e,
            0.0,
            b.star_e_s * 10 ** (-0.4 * aim.star_mag),
            station.fwhm_px,
            t + s + dark,
        )
        for t, s, b in light
    ]
    # full stars set no length: they are a price that is told
    sub = replace(
        advise_sub(
            read,
            sky + dark,
            _READ_SHARE,
            saturates_at_s=min((f for f in full if f is not None), default=None),
            given_s=length,
        ),
        limited_by="max_sub" if length >= station.longest_s else "worth",
    )
    core = None
    if aim.core_times is not None:
        brightest = max(t * aim.core_times + s + dark for t, s, _ in light)
        core = _core_sub(station.full_well_e / brightest, length)
    name = filter_.name
    made = Through(station.name, aim.name, name, bands, pixels, read, dark, sub, worth, {}, core)
    return replace(made, alone={c: float(v[0]) for c, v in made.per_hour(path).items()})


def _core_sub(fills_s: float, length_s: float) -> float | None:
    """The longest round length that stays below half of a well that fills in so many seconds."""
    if length_s <= fills_s:
        return None
    fitting = [t for t in LENGTHS_S if t <= fills_s / 2]
    return float(max(fitting, default=LENGTHS_S[0]))


@dataclass(frozen=True)
class ChannelPlan:
    """A channel of a target: the filter that serves it best at the first station that has one, its
    sub, light under a dark sky, hours wanted and held there, SNR of a pixel in one sub and of a
    beam at the end; ``per_hour`` is what such an hour adds to SNR squared.
    """

    channel: str
    filter: str
    station: str
    sub: SubAdvice
    worth: Worth
    target_e_s: float
    sky_e_s: float
    wanted_h: float
    had_h: float
    sub_snr: float
    stack_snr: float
    per_hour: float

    @property
    def missing_h(self) -> float:
        """Hours that are still wanted; never below zero."""
        return max(self.wanted_h - self.had_h, 0.0)


def channel_plan(station: Station, through: Through, aim: Aim, channel: str) -> ChannelPlan:
    """What a channel wants, in hours of a filter of a station under a dark sky."""
    demand = aim.demands[channel]
    rate = through.alone[channel]
    target, sky = (float(v[0]) for v in through.light(dark_path(station, aim))[channel])
    goal = demand.snr**2 / rate if rate > 0 else 0.0
    wanted = demand.wanted_h if demand.wanted_h is not None else goal * demand.panels
    light = sky + through.dark_e_s
    return ChannelPlan(
        channel,
        through.filter,
        station.name,
        through.sub,
        through.worth,
        target,
        sky,
        wanted,
        demand.had_h,
        snr(target, light, through.read_noise_e, through.sub.sub_s, 1),
        float(np.sqrt(rate * max(wanted, demand.had_h) / demand.panels)),
        rate,
    )


def moon_factor(through: Through, channel: str, path: SkyPath) -> float:
    """How many times brighter the sky of a channel gets by the Moon, at most."""
    band = next(b for b in through.bands if b.channel == channel)
    parts = band.sky_parts(path.glow, path.moon_nl, None)
    return float(np.max(1 + parts["moon"] / parts["natural"], initial=1.0))

"""One night: twilights, the Moon, the target's way, and when it can be shot.

A night runs from mean solar noon of its date to the next. Altitudes are topocentric, without
refraction.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.errors import InputError
from .bodies import Ephemeris, ephemeris, lit_share
from .dates import RISE, noon
from .earth import F64, Place, horizontal, observer, separation, unit
from .horizon import OPEN_HORIZON, Horizon

_STEP_S: Final = 30.0
_SHORTEST_S: Final = 60.0


@dataclass(frozen=True)
class Target:
    """J2000 position, degrees."""

    ra: float
    dec: float

    def __post_init__(self) -> None:
        if not (-360 <= self.ra <= 360 and -90 <= self.dec <= 90):
            raise InputError(
                "This is no position in the sky",
                why=f"right ascension {self.ra:g}, declination {self.dec:g}",
                do="Give right ascension from 0 to 360 degrees and declination from -90 to 90",
            )


@dataclass(frozen=True)
class Rules:
    """When a target may be shot: Sun below, target above, Moon down or not; degrees."""

    min_altitude: float = 20.0
    sun_below: float = -18.0
    moon_down: bool = False
    horizon: Horizon = OPEN_HORIZON

    def __post_init__(self) -> None:
        if not (-90 <= self.min_altitude < 90 and -90 <= self.sun_below <= 90):
            raise InputError(
                "These limits cannot be",
                why=f"target above {self.min_altitude:g}, Sun below {self.sun_below:g}",
                do="Give altitudes between -90 and 90 degrees",
            )


@dataclass(frozen=True)
class Track:
    """Altitudes through a night: UTC Julian days, degrees; the target's are None without one."""

    utc: F64
    sun: F64
    moon: F64
    moon_azimuth: F64
    target: F64 | None = None
    azimuth: F64 | None = None
    skyline: F64 | None = None
    moon_distance: F64 | None = None


@dataclass(frozen=True)
class MoonNight:
    """Rise and set as UTC Julian days; ``state`` is up, down or normal; ``lit`` at the night's
    middle, 0 to 1.
    """

    rise: float | None
    set: float | None
    state: str
    lit: float


@dataclass(frozen=True)
class TargetNight:
    """The target through a night; ``windows`` as UTC Julian days."""

    transit: float | None
    transit_altitude: float | None
    moon_separation: float
    state: str
    circumpolar: bool
    windows: tuple[tuple[float, float], ...]

    @property
    def hours(self) -> float:
        """Hours in all windows."""
        return sum(end - start for start, end in self.windows) * 24


@dataclass(frozen=True)
class Night:
    """All of a night; times as UTC Julian days, None for what does not happen."""

    date: dt.date
    start: float
    end: float
    state: str
    lowest_sun: float
    sunset: float | None
    civil_dusk: float | None
    nautical_dusk: float | None
    astronomical_dusk: float | None
    astronomical_dawn: float | None
    nautical_dawn: float | None
    civil_dawn: float | None
    sunrise: float | None
    moon: MoonNight
    target: TargetNight | None
    track: Track
    dark: tuple[tuple[float, float], ...]

    @property
    def middle(self) -> float:
        """The middle of the night, Julian date."""
        return (self.start + self.end) / 2


def track(place: Place, utc: F64, target: Target | None, rules: Rules, sky: Ephemeris) -> Track:
    """Altitudes at given moments."""
    gast = sky.sidereal(utc)
    here = observer(place, gast)
    moon = sky.moon(utc) - here
    moon_alt, moon_az = horizontal(moon, gast, place)
    sun_alt = horizontal(sky.sun(utc) - here, gast, place)[0]
    if target is None:
        return Track(utc, sun_alt, moon_alt, moon_az)
    star = sky.star(target.ra, target.dec, utc)
    altitude, azimuth = horizontal(star, gast, place)
    return Track(
        utc,
        sun_alt,
        moon_alt,
        moon_az,
        altitude,
        azimuth,
        rules.horizon.altitude(azimuth),
        separation(star, unit(moon)),
    )


def plan_night(
    place: Place, date: dt.date, target: Target | None = None, rules: Rules | None = None
) -> Night:
    """Everything about the night of ``date``."""
    rules = rules or Rules()
    start = noon(date, place)
    sky = ephemeris(int(start) // 8 * 8, int(start) // 8 * 8 + 10)
    utc = start + np.arange(0, 86400 + _STEP_S, _STEP_S) / 86400
    path = track(place, utc, target, rules, sky)
    sun = path.sun
    down = [_first(_crossings(utc, sun - level, -1)) for level in (RISE, -6, -12, -18)]
    rise = [_last(_crossings(utc, sun - level, +1)) for level in (-18, -12, -6, RISE)]
    middle = np.array([start + 0.5])
    lit = float(lit_share(sky.sun(middle), sky.moon(middle))[0])
    over = path.moon - RISE
    state = "up" if (over > 0).all() else "down" if (over <= 0).all() else "normal"
    moon = MoonNight(
        _first(_crossings(utc, over, +1)), _first(_crossings(utc, over, -1)), state, lit
    )
    about = None if target is None else _target_night(path, place, target, rules, sky)
    return Night(
        date,
        start,
        start + 1,
        sun_state(float(sun.min()), float(sun.max())),
        float(sun.min()),
        down[0],
        down[1],
        down[2],
        down[3],
        rise[0],
        rise[1],
        rise[2],
        rise[3],
        moon,
        about,
        path,
        spans(utc, rules.sun_below - sun),
    )


def sun_state(lowest: float, highest: float) -> str:
    """The named state of a night by the Sun's lowest and highest altitude."""
    for level, name in (
        (RISE, "polar_day"),
        (-6, "no_civil_dark"),
        (-12, "no_nautical_dark"),
        (-18, "no_astronomical_dark"),
    ):
        if lowest >= level:
            return name
    return "polar_night" if highest <= RISE else "normal"


def _target_night(
    path: Track, place: Place, target: Target, rules: Rules, sky: Ephemeris
) -> TargetNight:
    assert path.target is not None
    assert path.skyline is not None
    assert path.moon_distance is not None
    free = np.minimum(path.target - rules.min_altitude, path.target - path.skyline)
    allowed = rules.sun_below - path.sun
    if rules.moon_down:
        allowed = np.minimum(allowed, RISE - path.moon)
    windows = spans(path.utc, np.minimum(free, allowed))
    if path.target.max() <= 0:
        state = "never_rises"
    elif free.max() <= 0:
        state = "too_low"
    else:
        state = "open" if windows else "not_in_dark"
    transit = _transit(path.utc[len(path.utc) // 2], place, target, sky)
    at = track(place, np.array([transit]), target, rules, sky)
    assert at.target is not None
    middle = len(path.utc) // 2
    return TargetNight(
        transit,
        float(at.target[0]),
        float(path.moon_distance[middle]),
        state,
        bool((path.target > 0).all()),
        windows,
    )


def _transit(middle: float, place: Place, target: Target, sky: Ephemeris) -> float:
    """The upper transit nearest to ``middle``: where the hour angle is zero."""
    moment = float(middle)
    for _ in range(3):
        utc = np.array([moment])
        star = sky.star(target.ra, target.dec, utc)[0]
        ra = np.rad2deg(np.arctan2(star[1], star[0]))
        angle = (np.rad2deg(sky.sidereal(utc)[0]) + place.lon - ra + 180) % 360 - 180
        moment -= angle / 360.98564736629
    return float(moment)


def _crossings(utc: F64, values: F64, way: int) -> list[float]:
    """Moments where ``values`` go through zero, upward (+1) or downward (-1)."""
    before, after = values[:-1], values[1:]
    found = np.flatnonzero((before <= 0) & (after > 0) if way > 0 else (before > 0) & (after <= 0))
    share = before[found] / (before[found] - after[found])
    return [float(t) for t in utc[found] + share * (utc[found + 1] - utc[found])]


def hidden(nights: Iterable[Night], rules: Rules) -> tuple[tuple[float, float], ...]:
    """When none of the targets of some nights stands free: behind the skyline, or lower than the
    rules allow.
    """
    tracks = [n.track for n in nights]
    free = [
        np.minimum(t.target - rules.min_altitude, t.target - t.skyline)
        for t in tracks
        if t.target is not None and t.skyline is not None
    ]
    return spans(tracks[0].utc, -np.max(free, axis=0)) if free else ()


def spans(utc: F64, margin: F64) -> tuple[tuple[float, float], ...]:
    """Stretches where ``margin`` is above zero; gaps and stretches under a minute do not count."""
    edges = sorted(
        [(t, 1) for t in _crossings(utc, margin, +1)]
        + [(t, -1) for t in _crossings(utc, margin, -1)]
    )
    starts = ([float(utc[0])] if margin[0] > 0 else []) + [t for t, way in edges if way > 0]
    ends = [t for t, way in edges if way < 0] + ([float(utc[-1])] if margin[-1] > 0 else [])
    joined: list[list[float]] = []
    for start, end in zip(starts, ends, strict=True):
        if joined and (start - joined[-1][1]) * 86400 < _SHORTEST_S:
            joined[-1][1] = end
        else:
            joined.append([start, end])
    return tuple((s, e) for s, e in joined if (e - s) * 86400 >= _SHORTEST_S)


def _first(moments: list[float]) -> float | None:
    return moments[0] if moments else None


def _last(moments: list[float]) -> float | None:
    return moments[-1] if moments else None

"""Many nights at a glance: dark, open and moonless hours, at a coarser step than a single night."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Final

import numpy as np

from ..model.errors import InputError
from .bodies import ephemeris, lit_share
from .dates import RISE, noon
from .earth import F64, Place
from .night import Rules, Target, sun_state, track

MOST_NIGHTS: Final = 400
_USABLE_H: Final = 1.0  # of a night that belongs to a season
_LONGEST_DAYS, _WEEK, _COARSE = 365, 7, 96
_STEPS: Final = 360  # four minutes; between them altitudes are as good as straight


@dataclass(frozen=True)
class SeasonNight:
    """One night: hours, the Moon's lit share (0 to 1) and distance (degrees) at its middle.

    Open hours are None without a target.
    """

    date: dt.date
    state: str
    dark_hours: float
    open_hours: float | None
    open_moonless_hours: float | None
    lit: float
    separation: float | None


def plan_season(
    place: Place,
    first: dt.date,
    last: dt.date,
    target: Target | None = None,
    rules: Rules | None = None,
) -> list[SeasonNight]:
    """Nights from ``first`` to ``last``, both included. Good to 0.05 hours a night."""
    rules = rules or Rules()
    count = (last - first).days + 1
    if count < 1:
        raise InputError(
            "The season ends before it begins", why=f"{first} to {last}", do="Turn the dates round"
        )
    if count > MOST_NIGHTS:
        raise InputError(
            "The season is too long",
            why=f"{count} nights",
            do=f"Ask for up to {MOST_NIGHTS} nights",
        )
    dates = [first + dt.timedelta(days=n) for n in range(count)]
    starts = np.array([noon(dates[0], place) + n for n in range(count)])
    noon(dates[-1], place)
    sky = ephemeris(int(starts[0]), int(starts[-1]) + 1)
    utc = starts[:, None] + np.linspace(0, 1, _STEPS + 1)
    path = track(place, utc.ravel(), target, rules, sky)
    shape = utc.shape
    sun, moon = path.sun.reshape(shape), path.moon.reshape(shape)
    dark = rules.sun_below - sun
    middle = starts + 0.5
    lit = lit_share(sky.sun(middle), sky.moon(middle))
    opened: list[float | None] = [None] * count
    moonless: list[float | None] = [None] * count
    distance: list[float | None] = [None] * count
    if path.target is not None and path.skyline is not None and path.moon_distance is not None:
        high = np.minimum(path.target - rules.min_altitude, path.target - path.skyline).reshape(
            shape
        )
        free = np.minimum(high, dark)
        down = np.minimum(free, RISE - moon)
        moonless = [float(v) for v in _hours(down)]
        opened = moonless if rules.moon_down else [float(v) for v in _hours(free)]
        distance = [float(v) for v in path.moon_distance.reshape(shape)[:, _STEPS // 2]]
    dark_hours = _hours(dark)
    return [
        SeasonNight(
            d,
            sun_state(float(sun[n].min()), float(sun[n].max())),
            float(dark_hours[n]),
            opened[n],
            moonless[n],
            float(lit[n]),
            distance[n],
        )
        for n, d in enumerate(dates)
    ]


@dataclass(frozen=True)
class Season:
    """The first and the last night in which a target can be shot."""

    first: dt.date
    last: dt.date


@lru_cache(maxsize=64)
def season_of(place: Place, first: dt.date, target: Target, rules: Rules) -> Season | None:
    """The next nights on end from ``first`` in which the target can be shot for an hour; None
    where there are none in a year, or no end. Begins on a week, ends on a night.
    """
    weeks = [first + dt.timedelta(days=n) for n in range(0, _LONGEST_DAYS, _WEEK)]
    usable = _open_hours(place, weeks, target, rules) >= _USABLE_H
    if not usable.any() or usable.all():
        return None
    begin = int(np.argmax(usable))
    if usable[begin:].all():
        return None
    end = begin + int(np.argmin(usable[begin:]))
    days = [weeks[end - 1] + dt.timedelta(days=n) for n in range(_WEEK)]
    still = _open_hours(place, days, target, rules) >= _USABLE_H
    return Season(weeks[begin], days[int(np.flatnonzero(still)[-1])])


def _open_hours(place: Place, dates: Sequence[dt.date], target: Target, rules: Rules) -> F64:
    """Hours of each night in which the target can be shot."""
    starts = np.array([noon(d, place) for d in dates])
    utc = starts[:, None] + np.linspace(0, 1, _COARSE + 1)
    sky = ephemeris(int(starts[0]), int(starts[-1]) + 1)
    path = track(place, utc.ravel(), target, rules, sky)
    assert path.target is not None
    assert path.skyline is not None
    free = np.minimum(path.target - rules.min_altitude, path.target - path.skyline)
    margin = np.minimum(free, rules.sun_below - path.sun).reshape(utc.shape)
    return np.asarray(share_above(margin).sum(1) * 24 / _COARSE)


def _hours(margin: F64) -> F64:
    """Hours of each row in which the margin is above zero."""
    return np.asarray(share_above(margin).sum(1) * 24 / _STEPS)


def share_above(margin: F64) -> F64:
    """Share of each step (N, steps) in which a margin (N, steps + 1) is above zero, taken as
    straight between its points.
    """
    before, after = margin[:, :-1], margin[:, 1:]
    rise = np.where(after != before, after - before, 1.0)
    cut = np.clip(-before / rise, 0, 1)
    return np.where(
        (before > 0) & (after > 0),
        1.0,
        np.where(
            (before <= 0) & (after > 0), 1 - cut, np.where((before > 0) & (after <= 0), cut, 0.0)
        ),
    )

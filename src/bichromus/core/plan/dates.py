"""Moments, Julian dates and the calendar date that a night has at its place."""

from __future__ import annotations

import datetime as dt
from typing import Final

import numpy as np

from ..model.errors import InputError
from .bodies import ephemeris
from .earth import FIRST_YEAR, LAST_YEAR, Place, horizontal, observer

RISE: Final = -0.8333
_EPOCH: Final = dt.datetime(2000, 1, 1, 12, tzinfo=dt.UTC)
_EPOCH_JD: Final = 2451545.0


def julian(moment: dt.datetime) -> float:
    """UTC Julian day of an aware moment."""
    return _EPOCH_JD + (moment - _EPOCH).total_seconds() / 86400


def moment_of(jd: float) -> dt.datetime:
    """The moment, to the second."""
    return _EPOCH + dt.timedelta(seconds=round((jd - _EPOCH_JD) * 86400))


def iso_time(jd: float) -> str:
    """ISO 8601, UTC, to the second."""
    return moment_of(jd).strftime("%Y-%m-%dT%H:%M:%SZ")


def local_time(jd: float, zone: dt.tzinfo) -> str:
    """Time of day in a zone, as 21:05."""
    return moment_of(jd).astimezone(zone).strftime("%H:%M")


def noon(date: dt.date, place: Place) -> float:
    """Mean solar noon of a date at a place. Raises InputError outside the years that are known
    well.
    """
    if not FIRST_YEAR <= date.year <= LAST_YEAR:
        raise InputError(
            "This date is out of range",
            why=date.isoformat(),
            do=f"Give a date from {FIRST_YEAR} to {LAST_YEAR}",
        )
    midday = dt.datetime(date.year, date.month, date.day, 12, tzinfo=dt.UTC)
    return julian(midday) - place.longitude / 360


def date_of(moment: dt.datetime, place: Place) -> dt.date:
    """The date of the night that is at a moment, or that comes next when the Sun is up in the
    morning.
    """
    local = moment + dt.timedelta(days=place.longitude / 360)
    day = local.date() if local.hour >= 12 else local.date() - dt.timedelta(days=1)
    if local.hour < 12 and local.date().year <= LAST_YEAR:
        jd = np.array([julian(moment)])
        sky = ephemeris(int(jd[0]) - 1, int(jd[0]) + 1)
        gast = sky.sidereal(jd)
        if horizontal(sky.sun(jd) - observer(place, gast), gast, place)[0][0] > RISE:
            return local.date()
    return day

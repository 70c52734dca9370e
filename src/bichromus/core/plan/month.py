"""What can be shot: usable hours of many targets over the nights of a month.

How high a target stands depends on sidereal time alone. So the dark of all nights is gathered by
sidereal time once, and every target is looked at over one turn of the sky.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from .bodies import ephemeris
from .dates import RISE, noon
from .earth import F64, Place, alt_az, direction
from .night import Rules, track
from .season import share_above

_STEPS: Final = 720  # of a night: two minutes; between them altitudes are as good as straight
_TURN: Final = 720  # parts of a turn of the sky
_AT_ONCE: Final = 1500  # targets


@dataclass(frozen=True)
class UsableHours:
    """Hours (N,) in all nights with the targets above minimum and horizon and the Sun down; with
    the Moon down as well; altitude at upper transit (degrees).
    """

    open: F64
    moonless: F64
    transit: F64


def usable_hours(
    place: Place, dates: Sequence[dt.date], rules: Rules, ra_deg: F64, dec_deg: F64
) -> UsableHours:
    """Of targets at J2000 positions (N,), summed over nights: as ``plan_season`` gives them for one
    target, good to 0.05 hours a night.
    """
    starts = np.array([noon(date, place) for date in dates])
    sky = ephemeris(int(starts[0]), int(starts[-1]) + 1)
    utc = starts[:, None] + np.linspace(0, 1, _STEPS + 1)
    path = track(place, utc.ravel(), None, rules, sky)
    dark = rules.sun_below - path.sun.reshape(utc.shape)
    down = np.minimum(dark, RISE - path.moon.reshape(utc.shape))
    middle = (utc[:, :-1] + utc[:, 1:]) / 2
    turned = (np.degrees(sky.sidereal(middle)) + place.lon) % 360
    weights = [_by_turn(turned, share_above(m) * 24 / _STEPS) for m in (dark, down)]
    frame = sky.frame(np.array([starts.mean() + 0.5]))[0]
    now = direction(ra_deg, dec_deg).T @ frame.T
    ra = np.degrees(np.arctan2(now[:, 1], now[:, 0]))
    dec = np.degrees(np.arcsin(np.clip(now[:, 2], -1, 1)))
    sums = [np.zeros(len(ra)), np.zeros(len(ra))]
    for first in range(0, len(ra), _AT_ONCE):
        part = slice(first, first + _AT_ONCE)
        share = _share_open(place, rules, ra[part], dec[part])
        for total, weight in zip(sums, weights, strict=True):
            total[part] = share @ weight
    return UsableHours(sums[0], sums[1], 90 - np.abs(place.lat - dec))


def _by_turn(degrees: F64, hours: F64) -> F64:
    """Hours gathered by sidereal time, shared between the two parts that are nearest."""
    at = degrees.ravel() / 360 * _TURN - 0.5
    low = np.floor(at)
    up = at - low
    out = np.zeros(_TURN)
    for index, share in ((low, 1 - up), (low + 1, up)):
        np.add.at(out, index.astype(int) % _TURN, share * hours.ravel())
    return out


def _share_open(place: Place, rules: Rules, ra: F64, dec: F64) -> F64:
    """Share of each part of the turn (N, parts) in which targets stand high enough."""
    edges = np.linspace(0, 360, _TURN + 1)
    altitude, azimuth = alt_az(edges[None, :] - ra[:, None], dec[:, None], place.lat)
    margin = altitude - rules.min_altitude
    if rules.horizon.points:
        margin = np.minimum(margin, altitude - rules.horizon.altitude(azimuth))
    else:
        margin = np.minimum(margin, altitude)
    return share_above(margin)

"""Sun and Moon: exact at nodes, polynomials between them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import erfa
import numpy as np

from ..numerics.even import BEYOND, EvenTable
from .earth import (
    F64,
    JD0,
    LIGHT_AU_DAY,
    direction,
    rotation,
    sidereal_excess,
    true_of_date,
    tt_of,
    unit,
)

_MARGIN_DAYS = 1.0 + BEYOND
_MOON_STEP_DAYS = 0.125


def sun_at(tt: F64) -> tuple[F64, F64]:
    """Apparent direction of the Sun from the Earth's centre (AU, ICRS axes) and the Earth's
    velocity (AU/day).
    """
    helio, bary = erfa.epv00(JD0, tt - JD0)
    velocity = np.asarray(bary["v"])
    towards = -np.asarray(helio["p"])
    distance = np.linalg.norm(towards, axis=-1, keepdims=True)
    return towards + distance * velocity / LIGHT_AU_DAY, velocity


def moon_at(tt: F64) -> F64:
    """The Moon from the Earth's centre (AU, ICRS axes)."""
    return np.asarray(erfa.moon98(JD0, tt - JD0)["p"])


@dataclass(frozen=True)
class Ephemeris:
    """Sun, Moon and precession over a stretch of days, true of date."""

    first: float
    last: float
    _sun: EvenTable
    _moon: EvenTable
    _velocity: EvenTable
    _frame: EvenTable
    _excess: EvenTable

    def frame(self, utc: F64) -> F64:
        """Matrices to the true equator of date."""
        return self._frame(utc).reshape(*np.shape(utc), 3, 3)

    def sidereal(self, utc: F64) -> F64:
        """Greenwich apparent sidereal time, radians."""
        return np.asarray(rotation(utc) + self._excess(utc))

    def sun(self, utc: F64) -> F64:
        """From the Earth's centre, AU, true of date."""
        return self._sun(utc)

    def moon(self, utc: F64) -> F64:
        """From the Earth's centre, AU, true of date."""
        return self._moon(utc)

    def star(self, ra_deg: float, dec_deg: float, utc: F64) -> F64:
        """Apparent direction of a J2000 position, true of date, with annual aberration."""
        aberrated = unit(direction(ra_deg, dec_deg) + self._velocity(utc) / LIGHT_AU_DAY)
        return np.asarray(np.einsum("...ij,...j->...i", self.frame(utc), aberrated))


@lru_cache(maxsize=16)
def ephemeris(first_day: int, last_day: int) -> Ephemeris:
    """Between two UTC Julian days (whole numbers), with a margin; kept, so that a second night
    costs nothing.
    """
    start, end = first_day - _MARGIN_DAYS, last_day + _MARGIN_DAYS
    days = np.arange(start, end + 1.0)
    hours = np.arange(start, end + _MOON_STEP_DAYS, _MOON_STEP_DAYS)
    frames = true_of_date(tt_of(days))
    sun, velocity = sun_at(tt_of(days))
    moon = moon_at(tt_of(hours))
    frame = EvenTable(start, 1.0, frames.reshape(len(days), 9))
    at_hours = frame(hours).reshape(-1, 3, 3)
    return Ephemeris(
        start,
        end,
        EvenTable(start, 1.0, np.einsum("nij,nj->ni", frames, sun)),
        EvenTable(start, _MOON_STEP_DAYS, np.einsum("nij,nj->ni", at_hours, moon)),
        EvenTable(start, 1.0, velocity),
        frame,
        EvenTable(start, 1.0, sidereal_excess(days)),
    )


def lit_share(sun: F64, moon: F64) -> F64:
    """Illuminated share of the Moon, 0 to 1, seen from the Earth's centre."""
    to_sun = sun - moon
    cos_phase = (
        -(moon * to_sun).sum(-1) / np.linalg.norm(moon, axis=-1) / np.linalg.norm(to_sun, axis=-1)
    )
    return np.asarray((1 + cos_phase) / 2)

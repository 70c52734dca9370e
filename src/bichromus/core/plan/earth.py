"""Places on the turning Earth: directions, hour angles, altitudes. Angles in degrees, times as UTC
Julian days.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import erfa
import numpy as np
from numpy.typing import NDArray

from ..model.errors import InputError

F64 = NDArray[np.float64]
JD0: Final = 2451545.0
AU_M: Final = 149_597_870_700.0
LIGHT_AU_DAY: Final = 173.144632674
FIRST_YEAR, LAST_YEAR = 1950, 2050

# TT - UT in seconds; beyond the last entry it is taken to stay, which moves the Moon by a few
# arcseconds at most
_DELTA_YEAR: Final = np.array([1950.0, 1960, 1970, 1980, 1990, 2000, 2005, 2010, 2020, 2025, 2050])
_DELTA_S: Final = np.array([29.1, 33.1, 40.2, 50.5, 56.9, 63.8, 64.7, 66.1, 69.4, 69.1, 71.0])
EARTH_NOTE: Final = "UT1 is taken as UTC: times are good to about one second."


@dataclass(frozen=True)
class Place:
    """A site on the Earth: north and east positive, degrees; elevation in metres."""

    lat: float
    lon: float
    elevation_m: float = 0.0

    def __post_init__(self) -> None:
        if not -90 <= self.lat <= 90 or not -360 <= self.lon <= 360:
            raise InputError(
                "This is no place on Earth",
                why=f"latitude {self.lat:g}, longitude {self.lon:g}",
                do="Give latitude from -90 to 90 and longitude from -180 to 180, east positive",
            )
        if not -500 <= self.elevation_m <= 9000:
            raise InputError(
                "This elevation cannot be",
                why=f"{self.elevation_m:g} m",
                do="Give metres above the sea",
            )

    @property
    def longitude(self) -> float:
        """Longitude from -180 to 180."""
        return (self.lon + 180) % 360 - 180


def tt_of(utc: F64) -> F64:
    """Terrestrial time (Julian days) of UTC Julian days, with UT1 taken as UTC."""
    year = 2000 + (utc - JD0) / 365.25
    return np.asarray(utc + np.interp(year, _DELTA_YEAR, _DELTA_S) / 86400)


def true_of_date(tt: F64) -> F64:
    """Matrices (..., 3, 3) from the ICRS to the true equator and equinox of date."""
    return np.asarray(erfa.pnm06a(JD0, tt - JD0))


def rotation(utc: F64) -> F64:
    """Earth rotation angle, radians."""
    return np.asarray(erfa.era00(JD0, utc - JD0))


def sidereal_excess(utc: F64) -> F64:
    """Greenwich apparent sidereal time less the rotation angle, radians: small and slow, but dear
    to compute.
    """
    found = erfa.gst06a(JD0, utc - JD0, JD0, tt_of(utc) - JD0) - rotation(utc)
    return np.asarray((found + np.pi) % (2 * np.pi) - np.pi)


def observer(place: Place, gast: F64) -> F64:
    """Vectors (..., 3) from the Earth's centre to the place, in astronomical units, true of
    date.
    """
    x, y, z = erfa.gd2gc(1, np.deg2rad(place.lon), np.deg2rad(place.lat), place.elevation_m) / AU_M
    cos, sin = np.cos(gast), np.sin(gast)
    return np.stack([x * cos - y * sin, x * sin + y * cos, np.full_like(gast, z)], -1)


def unit(vectors: F64) -> F64:
    """Vectors (..., 3) at length 1."""
    return np.asarray(vectors / np.linalg.norm(vectors, axis=-1, keepdims=True))


def direction(ra_deg: F64 | float, dec_deg: F64 | float) -> F64:
    """Unit vector of a direction (3,), or of many (3, N)."""
    ra, dec = np.deg2rad(ra_deg), np.deg2rad(dec_deg)
    return np.array([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)])


def alt_az(hour_angle_deg: F64 | float, dec_deg: F64 | float, lat_deg: float) -> tuple[F64, F64]:
    """Altitude and azimuth (from north through east) of an hour angle and declination."""
    h, d, p = np.deg2rad(hour_angle_deg), np.deg2rad(dec_deg), np.deg2rad(lat_deg)
    sin_alt = np.sin(p) * np.sin(d) + np.cos(p) * np.cos(d) * np.cos(h)
    az = np.arctan2(
        -np.cos(d) * np.sin(h), np.sin(d) * np.cos(p) - np.cos(d) * np.sin(p) * np.cos(h)
    )
    return np.asarray(np.rad2deg(np.arcsin(np.clip(sin_alt, -1, 1)))), np.asarray(
        np.rad2deg(az) % 360
    )


def horizontal(vectors: F64, gast: F64, place: Place) -> tuple[F64, F64]:
    """Altitude and azimuth of directions (..., 3), true of date."""
    ra = np.rad2deg(np.arctan2(vectors[..., 1], vectors[..., 0]))
    dec = np.rad2deg(np.arctan2(vectors[..., 2], np.hypot(vectors[..., 0], vectors[..., 1])))
    return alt_az(np.rad2deg(gast) + place.lon - ra, dec, place.lat)


def separation(first: F64, second: F64) -> F64:
    """Angle between directions (..., 3), degrees."""
    cross = np.linalg.norm(np.cross(first, second), axis=-1)
    return np.asarray(np.rad2deg(np.arctan2(cross, (first * second).sum(-1))))

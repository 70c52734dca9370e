"""How bright the sky is: site, Moon, and what it means at a line."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.channel import WAVELENGTH_NM
from ..model.errors import InputError
from .earth import F64

PHOTONS_AB0: Final = 5.480e10  # ph/s/m2/nm times lambda in nm, of AB = 0
RAYLEIGH: Final = 1.8704e-2  # ph/s/m2/arcsec2 of one rayleigh
BORTLE: Final = (21.9, 21.7, 21.45, 20.9, 19.8, 18.9, 18.25, 17.8, 17.3)
_MOON_AT_HA: Final = 0.55  # moonlight per nm at 656 over 501
_MOON_S2_OVER_HA: Final = 0.96
EXTINCTION_V: Final = 0.172
"""Magnitudes an airmass at 550 nm."""
_MOON_DOWN_DEG: Final = 90.8333  # from zenith
V_NM: Final = 550.0
V_TO_AB: Final = 0.02


def bortle_mag(bortle: int) -> float:
    """Zenith sky of a Bortle class, mag/arcsec2 (good to 0.4). Raises InputError."""
    if not 1 <= bortle <= 9:
        raise InputError(
            "There is no such Bortle class", why=str(bortle), do="Give a class from 1 to 9"
        )
    return BORTLE[bortle - 1]


def photons_ab(mag: float, wavelength_nm: float) -> float:
    """Photons/s/m2/nm of an AB magnitude."""
    return float(PHOTONS_AB0 / wavelength_nm * 10 ** (-0.4 * mag))


def photons_v(mag: float) -> float:
    """Photons/s/m2/nm of a V magnitude, at V."""
    return photons_ab(mag + V_TO_AB, V_NM)


def airmass(altitude_deg: float) -> float:
    """Airmass (Kasten & Young 1989)."""
    return float(airmasses(np.asarray(altitude_deg)))


def airmasses(altitude_deg: F64) -> F64:
    """Airmass at altitudes (N,); source: ``airmass``."""
    h = np.maximum(altitude_deg, -1.0)
    return np.asarray(1 / (np.sin(np.deg2rad(h)) + 0.50572 * (h + 6.07995) ** -1.6364))


def moon_nanolamberts(
    phase_deg: float,
    moon_zenith_deg: float,
    target_zenith_deg: float,
    distance_deg: float,
    extinction: float = EXTINCTION_V,
) -> float:
    """Moonlight on the sky in V, nanolamberts; 0 when the Moon is down. Phase angle 0 is full."""
    phase, moon, target, away = (
        np.asarray(v, float) for v in (phase_deg, moon_zenith_deg, target_zenith_deg, distance_deg)
    )
    return float(moonlight(phase, moon, target, away, extinction))


def moonlight(
    phase_deg: F64,
    moon_zenith_deg: F64,
    target_zenith_deg: F64,
    distance_deg: F64,
    extinction: float = EXTINCTION_V,
) -> F64:
    """Moonlight on the sky in V, nanolamberts, at many moments (Krisciunas & Schaefer 1991); 0 when
    the Moon is down. Phase angle 0 is full.
    """
    rho = np.maximum(distance_deg, 1.0)
    air = 10**5.36 * (1.06 + np.cos(np.deg2rad(rho)) ** 2)
    scatter = air + np.where(rho < 10, 6.2e7 / rho**2, 10 ** (6.15 - rho / 40))
    light = 10 ** (-0.4 * (3.84 + 0.026 * np.abs(phase_deg) + 4e-9 * phase_deg**4))

    def path(zenith: F64) -> F64:
        found = 1 - 0.96 * np.sin(np.deg2rad(np.minimum(zenith, 90.0))) ** 2
        return np.asarray(found**-0.5)

    lit = (
        scatter
        * light
        * 10 ** (-0.4 * extinction * path(moon_zenith_deg))
        * (1 - 10 ** (-0.4 * extinction * path(target_zenith_deg)))
    )
    return np.asarray(np.where(moon_zenith_deg >= _MOON_DOWN_DEG, 0.0, lit))


def nanolamberts(v_mag: float) -> float:
    """Surface brightness in nanolamberts of V mag/arcsec2 (Garstang 1989)."""
    return float(34.08 * np.exp(20.7233 - 0.92104 * v_mag))


def v_mag(nanolamberts: F64 | float) -> F64:
    """V mag/arcsec2 of a surface brightness in nanolamberts (Garstang 1989)."""
    return np.asarray((20.7233 - np.log(np.asarray(nanolamberts) / 34.08)) / 0.92104)


def photons_of_nl(nanolamberts: F64) -> F64:
    """Photons/s/m2/nm/arcsec2 at V of surface brightnesses above zero (N,)."""
    return np.asarray(photons_v(0.0) * 10 ** (-0.4 * v_mag(nanolamberts)))


def dark_nanolamberts(
    zenith_nl: float, altitude_deg: float, extinction: float = EXTINCTION_V
) -> float:
    """The moonless sky at an altitude from that at the zenith (Krisciunas & Schaefer 1991)."""
    path = (1 - 0.96 * np.cos(np.deg2rad(altitude_deg)) ** 2) ** -0.5
    return float(zenith_nl * 10 ** (-0.4 * extinction * (path - 1)) * path)


def phase_angle(lit: float) -> float:
    """Phase angle in degrees of a lit share."""
    return float(np.rad2deg(np.arccos(np.clip(2 * lit - 1, -1, 1))))


def sky_factor(channel: str, site_mag: float, moon_nl: float) -> float:
    """How many times brighter the sky is with the Moon than without, at a channel's wavelength."""
    extra = moon_nl / nanolamberts(site_mag)
    wavelength = WAVELENGTH_NM[channel]
    if wavelength >= 600:
        extra *= _MOON_AT_HA * (_MOON_S2_OVER_HA if channel == "S2" else 1.0)
    return 1 + extra


def sky_ab(channel: str, site_mag: float, moon_nl: float = 0.0) -> float:
    """AB mag/arcsec2 of the sky at a channel's wavelength, for a site of ``site_mag`` (V) and that
    much moonlight.
    """
    # the same photons per nm as at V are taken for all wavelengths without the Moon, which errs on
    # the safe side
    base = photons_v(site_mag)
    bright = base * sky_factor(channel, site_mag, moon_nl)
    wavelength = WAVELENGTH_NM[channel]
    return float(-2.5 * np.log10(bright * wavelength / PHOTONS_AB0))

"""The sky at given moments: how high the target and the Moon stand, and how bright it is there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .bodies import ephemeris, lit_share
from .earth import F64, Place, horizontal, observer, separation
from .night import Target
from .sky import dark_nanolamberts, moon_nanolamberts, nanolamberts, phase_angle, v_mag


@dataclass(frozen=True)
class Conditions:
    """One value a moment: degrees, the Moon's lit share 0 to 1, its light on the target in
    nanolamberts, and the sky there in V mag/arcsec2.
    """

    sun: F64
    moon: F64
    lit: F64
    target: F64
    distance: F64
    moon_nl: F64
    sky_mag: F64


def conditions(place: Place, target: Target, utc: F64, site_mag: float) -> Conditions:
    """At UTC Julian days (N,). Twilight brightens the sky in no figure here: ``sun`` tells of it.

    Source: Krisciunas & Schaefer (1991).
    """
    eph = ephemeris(int(np.floor(utc.min())), int(np.ceil(utc.max())) + 1)
    gast = eph.sidereal(utc)
    here = observer(place, gast)
    sun, moon, star = eph.sun(utc), eph.moon(utc), eph.star(target.ra, target.dec, utc)
    high = [horizontal(v, gast, place)[0] for v in (sun - here, moon - here, star)]
    lit, away = lit_share(sun, moon), separation(star, moon - here)
    zenith = nanolamberts(site_mag)
    up = np.maximum(high[2], 5.0)
    moonlight = np.array(
        [
            moon_nanolamberts(phase_angle(k), 90 - m, 90 - t, d)
            for t, m, k, d in zip(up, high[1], lit, away, strict=True)
        ]
    )
    light = moonlight + np.array([dark_nanolamberts(zenith, t) for t in up])
    mag = v_mag(light)
    return Conditions(high[0], high[1], lit, high[2], away, moonlight, mag)

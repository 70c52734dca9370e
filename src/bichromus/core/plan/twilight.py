"""How bright the sky is while the Sun is not far down (Patat 2006, at the zenith, taken for every
direction).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.channel import WAVELENGTH_NM
from .sky import V_TO_AB, photons_ab, photons_v, sky_factor


@dataclass(frozen=True)
class _Colour:
    """Vega mag/arcsec2 as a quadratic of the depression less 5 degrees, that of the night, and AB
    less Vega.
    """

    terms: tuple[float, float, float]
    night: float
    to_ab: float


_BLUE: Final = _Colour((11.84, 1.411, -0.041), 22.6, -0.09)
_VISUAL: Final = _Colour((11.84, 1.518, -0.057), 21.6, V_TO_AB)
_RED: Final = _Colour((11.40, 1.567, -0.064), 20.9, 0.21)
_SEEN_IN: Final = {"B": _BLUE, "Ha": _RED, "S2": _RED, "R": _RED}
_FIRST_DEG, _LAST_DEG, _NONE_DEG = 5.0, 15.0, 18.0
"""The Sun's depressions between which the quadratics hold, and from which none is left."""
_FALLS_MAG: Final = 1.1  # a degree, beyond the last


def twilight_ab_parts(channel: str, depression_deg: float) -> tuple[float | None, float]:
    """The sky at a channel while the Sun is so far down, and that of the night without it, both in
    AB mag/arcsec2: what twilight adds is the difference of their light. None where it adds none.
    """
    colour = _SEEN_IN.get(channel, _VISUAL)
    night = colour.night + colour.to_ab
    if depression_deg >= _NONE_DEG:
        return None, night
    d = float(np.clip(depression_deg, _FIRST_DEG, _LAST_DEG)) - _FIRST_DEG
    a, b, c = colour.terms
    whole = a + b * d + c * d * d + colour.to_ab
    beyond = depression_deg - _LAST_DEG
    if beyond <= 0:
        return whole, night
    flux, dark = 10 ** (-0.4 * whole), 10 ** (-0.4 * night)
    left = (flux - dark) * 10 ** (-0.4 * _FALLS_MAG * beyond)
    return float(-2.5 * np.log10(dark + left)), night


@dataclass(frozen=True)
class NightLight:
    """What brightens a dark sky: moonlight on the target in nanolamberts, and the Sun so many
    degrees down.
    """

    moon_nl: float = 0.0
    sun_down_deg: float = 90.0

    def factor(self, channel: str, site_mag: float) -> float:
        """How many times brighter the sky is at a channel than a dark one of ``site_mag`` (V)."""
        found = sky_factor(channel, site_mag, self.moon_nl)
        whole, night = twilight_ab_parts(channel, self.sun_down_deg)
        if whole is None:
            return found
        added, dark = (photons_ab(m, WAVELENGTH_NM[channel]) for m in (whole, night))
        return found + (added - dark) / photons_v(site_mag)

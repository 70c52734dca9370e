"""How bright the sky is while the Sun is not far down (Patat 2006, at the zenith, taken for every
direction).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from .earth import F64
from .sky import V_TO_AB, photons_ab


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


def twilight_photons(channel: str, depression_deg: F64, wavelength_nm: float) -> F64:
    """Photons/s/m2/nm/arcsec2 that twilight adds at a wavelength, the Sun so many degrees down
    (N,).
    """
    colour = _SEEN_IN.get(channel, _VISUAL)
    whole = 10 ** (-0.4 * _whole_ab(colour, depression_deg))
    added = (whole - 10 ** (-0.4 * (colour.night + colour.to_ab))) * photons_ab(0.0, wavelength_nm)
    return np.asarray(np.where(depression_deg < _NONE_DEG, added, 0.0))


def _whole_ab(colour: _Colour, depression_deg: F64) -> F64:
    """All of the sky, AB mag/arcsec2, while twilight is left."""
    d = np.clip(depression_deg, _FIRST_DEG, _LAST_DEG) - _FIRST_DEG
    a, b, c = colour.terms
    whole = a + b * d + c * d * d + colour.to_ab
    flux, dark = 10 ** (-0.4 * whole), 10 ** (-0.4 * (colour.night + colour.to_ab))
    beyond = np.maximum(depression_deg - _LAST_DEG, 0.0)
    left = (flux - dark) * 10 ** (-0.4 * _FALLS_MAG * beyond)
    return np.asarray(-2.5 * np.log10(dark + left))

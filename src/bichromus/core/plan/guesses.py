"""How bright targets of a kind usually are, where nobody says: guesses, named as such wherever they
are shown.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from ..model.channel import CHANNELS, LINES
from .budget import Glow
from .kinds import Kind
from .sky import V_TO_AB

_HB_OF_HA: Final = 0.35
"""Of a nebula's Ha without dust (recombination at 10,000 K, in photons: Osterbrock 1989)."""


@dataclass(frozen=True)
class Brightness:
    """Lines in rayleigh, and the surface in V mag/arcsec2."""

    ha: float
    o3: float
    s2: float
    surface: float


USUAL: Final[dict[Kind, Brightness]] = {
    "emission": Brightness(100.0, 20.0, 15.0, 24.0),
    "planetary": Brightness(120.0, 180.0, 15.0, 23.5),
    "remnant": Brightness(40.0, 25.0, 20.0, 25.0),
    "galaxy": Brightness(30.0, 8.0, 8.0, 25.0),
    "reflection": Brightness(5.0, 2.0, 2.0, 24.5),
    "cluster": Brightness(2.0, 2.0, 2.0, 23.0),
    "dark": Brightness(5.0, 2.0, 2.0, 25.0),
}
"""By kind of target: the faint parts that decide the hours."""


def surface_of(kind: Kind, surface_mag: float | None) -> float:
    """V mag/arcsec2 of a target's faint parts, guessed where it is not told."""
    return USUAL[kind].surface if surface_mag is None else surface_mag


def glow_of(kind: Kind, rayleigh: Mapping[str, float], surface_mag: float | None) -> Glow:
    """A target's light in every channel; what is not told is guessed by its kind."""
    usual = USUAL[kind]
    guess = {"Ha": usual.ha, "O3": usual.o3, "S2": usual.s2}
    guess["Hb"] = _HB_OF_HA * rayleigh.get("Ha", usual.ha)
    mag = surface_of(kind, surface_mag) + V_TO_AB
    return Glow({**guess, **rayleigh}, {c: mag for c in CHANNELS if c not in LINES})

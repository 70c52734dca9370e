"""What a plan is made for: rigs under their skies, and what is to be shot."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

import numpy as np

from .budget import BandFilter, Glow, LightRig
from .earth import F64, Place
from .night import Rules, Target
from .order import Overheads
from .worth import LONGEST_S

GOAL_SNR: Final = 15.0
"""Of a star's beam, at which a target shows well; wanted where nobody says hours."""
Span = tuple[float, float]
"""From and to, UTC Julian days."""


@dataclass(frozen=True)
class SiteSky:
    """The dark sky of a site: V mag/arcsec2 at the zenith, and in directions (azimuth in degrees
    from north through east, mag) where it differs.
    """

    mag: float
    glow: tuple[tuple[float, float], ...] = ()

    def brighter(self, azimuth_deg: F64) -> F64:
        """How many times brighter than at the zenith it is towards azimuths (N,)."""
        if not self.glow:
            return np.ones(np.shape(azimuth_deg))
        points = sorted((a % 360, m) for a, m in self.glow)
        mags = np.interp(azimuth_deg, [a for a, _ in points], [m for _, m in points], period=360)
        return np.asarray(10 ** (-0.4 * (mags - self.mag)))


@dataclass(frozen=True)
class Station:
    """A rig with its filters under its sky. ``awake`` are the hours of nights in which it may
    shoot, where not all of them; ``fwhm_px`` is the width of stars, ``longest_s`` the length of its
    subs at most, ``set_up_min`` what it takes until the first of them.
    """

    name: str
    site: str
    rig: LightRig
    filters: tuple[BandFilter, ...]
    place: Place
    sky: SiteSky
    fwhm_px: float
    full_well_e: float
    rules: Rules = field(default_factory=Rules)
    overheads: Overheads = field(default_factory=Overheads)
    longest_s: float = LONGEST_S
    set_up_min: float = 0.0
    awake: Mapping[dt.date, Span] = field(default_factory=dict)


@dataclass(frozen=True)
class Demand:
    """Hours of a channel that are held, and that are wanted in all (None: as many as show the
    target at an ``snr``, for each of so many ``panels``); both of the first station that serves it,
    under a dark sky.
    """

    had_h: float = 0.0
    wanted_h: float | None = None
    panels: int = 1
    snr: float = GOAL_SNR


@dataclass(frozen=True)
class Aim:
    """What is to be shot, and how much it counts; ``star_mag`` is its brightest star,
    ``core_times`` how many times brighter than its faint parts the core is that must survive (None:
    it need not).
    """

    name: str
    target: Target
    glow: Glow
    demands: Mapping[str, Demand]
    priority: float = 1.0
    star_mag: float = 8.0
    core_times: float | None = None

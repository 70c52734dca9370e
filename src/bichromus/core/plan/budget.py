"""The light budget: what a pixel gathers of target and sky through each band of a filter, and what
the sky is made of: the natural one, its glow, the Moon, twilight.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

import numpy as np

from ..model.channel import LINES, WAVELENGTH_NM
from .earth import F64
from .exposure import Optics
from .optics import filter_shift, lines_of
from .sky import EXTINCTION_V, V_NM, airmass, moon_nanolamberts, photons_ab, photons_of_nl
from .twilight import twilight_photons

PIXEL_SHARE: Final = {
    "Ha": 0.25,
    "S2": 0.25,
    "R": 0.25,
    "B": 0.25,
    "G": 0.5,
    "O3": 0.75,
    "Hb": 0.75,
}
"""Share of a colour camera's pixels that see a channel behind a filter; of others all do."""
BETWEEN_PLANES: Final = 0.77
"""Of the sensor's efficiency, on green and blue pixels together, for lines between both."""
_MOON: Final = {"Ha": 0.55, "R": 0.55, "S2": 0.53}
"""Moonlight per nm over that at V; elsewhere the same."""
_AEROSOL: Final = -1.3  # power of the wavelength
NEAREST_DEG: Final = 5.0
"""The Sun's depression below which nothing is shot."""


@dataclass(frozen=True)
class PassBand:
    """A band of a filter: the channel that it serves, centre, width (nm), transmission."""

    channel: str
    centre_nm: float
    width_nm: float
    transmission: float


@dataclass(frozen=True)
class BandFilter:
    """A filter of one band or several; without ``index`` a fast beam does not move them."""

    name: str
    bands: tuple[PassBand, ...]
    index: float | None = None
    shape: str = "top-hat"


@dataclass(frozen=True)
class LightRig:
    """Telescope and camera. ``qe`` is the sensor's, or by channel that of pixels that see it."""

    aperture_mm: float
    focal_mm: float
    pixel_um: float
    throughput: float
    qe: float | Mapping[str, float]
    read_noise_e: float
    obstruction: float = 0.0
    dark_e_s: float = 0.0
    colour: bool = False

    def efficiency(self, channel: str) -> float:
        """Of optics and pixels at a channel."""
        if isinstance(self.qe, Mapping):
            return self.throughput * self.qe[channel]
        between = self.colour and channel in ("O3", "Hb")
        return self.throughput * self.qe * (BETWEEN_PLANES if between else 1.0)

    def pixel_share(self, channel: str) -> float:
        """Share of the pixels that see a channel behind a filter."""
        return PIXEL_SHARE.get(channel, 1.0) if self.colour else 1.0


@dataclass(frozen=True)
class Glow:
    """A target: lines in rayleigh, surfaces in AB mag/arcsec2, by channel; pixels averaged."""

    rayleigh: Mapping[str, float] = field(default_factory=dict)
    surface_ab: Mapping[str, float] = field(default_factory=dict)
    pixels: float = 1.0


@dataclass(frozen=True)
class SkyNow:
    """The sky in one direction: ``natural_ab`` (mag/arcsec2, at every band) before ``glow`` (a
    factor), the target's altitude, the Sun's depression, and the Moon where it is up: altitude,
    distance from the target, phase angle (degrees, 0 full).
    """

    natural_ab: float
    altitude_deg: float
    glow: float = 1.0
    extinction_v: float = EXTINCTION_V
    sun_depression_deg: float | None = None
    moon: tuple[float, float, float] | None = None

    @property
    def airmass(self) -> float:
        """Towards the target."""
        return airmass(self.altitude_deg)

    @property
    def moon_nl(self) -> float:
        """Moonlight on the target, nanolamberts (Krisciunas & Schaefer 1991)."""
        if self.moon is None:
            return 0.0
        height, away, phase = self.moon
        return moon_nanolamberts(
            phase, 90 - height, 90 - self.altitude_deg, away, self.extinction_v
        )


@dataclass(frozen=True)
class Light:
    """Electrons a second and pixel of a channel: the target, and the parts of the sky; the share of
    the pixels that see it, and the filter's transmission of the line in the rig's beam over that at
    its peak.
    """

    target_e_s: float
    sky_parts: Mapping[str, float]
    pixel_share: float
    transmission: float

    @property
    def sky_e_s(self) -> float:
        """All of the sky."""
        return sum(self.sky_parts.values())


@dataclass(frozen=True)
class Budget:
    """The light of each channel that a filter serves, with warnings."""

    channels: dict[str, Light]
    warnings: tuple[str, ...] = ()


def light_budget(rig: LightRig, through: BandFilter, target: Glow, sky: SkyNow) -> Budget:
    """What a pixel gathers through a filter. A mono camera cannot part several bands: none is
    served then. Raises InputError for figures that cannot be.
    """
    warnings = []
    if not rig.colour and len(through.bands) > 1:
        names = " and ".join(b.channel for b in through.bands)
        warnings.append(
            f"A mono camera cannot part {names} behind {through.name}: it serves none of them."
        )
        return Budget({}, tuple(warnings))
    depression = sky.sun_depression_deg
    if depression is not None and depression < NEAREST_DEG:
        warnings.append(f"The Sun is only {depression:.1f}° down: nothing is shot.")
    return Budget(
        {b.channel: _light(rig, through, b, target, sky) for b in through.bands}, tuple(warnings)
    )


def extinction(wavelength_nm: float, at_v: float = EXTINCTION_V) -> float:
    """Magnitudes an airmass at a wavelength: air (Hansen & Travis 1974) and aerosol, so that 550 nm
    has ``at_v``; air that is clearer than that of the sea is taken to be thinner.
    """
    air, air_v = _rayleigh(wavelength_nm), _rayleigh(V_NM)
    if at_v < air_v:
        return air * at_v / air_v
    return air + (at_v - air_v) * (wavelength_nm / V_NM) ** _AEROSOL


def _rayleigh(wavelength_nm: float) -> float:
    um = wavelength_nm / 1000
    depth = 0.008569 * um**-4 * (1 + 0.0113 * um**-2 + 0.00013 * um**-4)
    return depth * 2.5 / math.log(10)


@dataclass(frozen=True)
class BandLight:
    """What a pixel gathers through a band, whatever sky the night has: the target above the air,
    the natural sky, one photon/s/m2/nm/arcsec2 (all e-/s), magnitudes an airmass; the share of the
    pixels and of the line as in ``Light``; what a star of AB = 0 gives.
    """

    channel: str
    centre_nm: float
    target_e_s: float
    natural_e_s: float
    per_photon: float
    extinction: float
    pixel_share: float
    transmission: float
    star_e_s: float

    def target(self, airmass: F64) -> F64:
        """The target through the air, e-/s at moments (N,)."""
        return np.asarray(self.target_e_s * 10 ** (-0.4 * self.extinction * airmass))

    def sky_parts(self, glow: F64, moon_nl: F64, sun_down_deg: F64 | None) -> dict[str, F64]:
        """The sky, e-/s at moments (N,): under a glow (a factor), so much moonlight, the Sun so far
        down (None: it does not matter).
        """
        moon = np.zeros(np.shape(moon_nl))
        lit = moon_nl > 0
        moon[lit] = photons_of_nl(moon_nl[lit]) * _MOON.get(self.channel, 1.0)
        twilight = np.zeros(np.shape(glow))
        if sun_down_deg is not None:
            twilight = twilight_photons(self.channel, sun_down_deg, self.centre_nm)
        return {
            "natural": np.full(np.shape(glow), self.natural_e_s),
            "glow": self.natural_e_s * (glow - 1),
            "moon": moon * self.per_photon,
            "twilight": twilight * self.per_photon,
        }


def band_light(
    rig: LightRig,
    through: BandFilter,
    band: PassBand,
    target: Glow,
    natural_ab: float,
    extinction_v: float = EXTINCTION_V,
) -> BandLight:
    """A rig behind a band of a filter, on a target, under a sky of ``natural_ab`` (mag/arcsec2 at
    the band). Raises InputError for figures that cannot be.
    """
    channel = band.channel
    optics = Optics(
        rig.aperture_mm,
        rig.focal_mm,
        rig.pixel_um,
        rig.efficiency(channel) * band.transmission,
        band.centre_nm,
        band.width_nm,
        rig.read_noise_e,
        rig.obstruction,
        rig.dark_e_s,
    )
    kept = _kept(rig, through, band)
    line = WAVELENGTH_NM[channel] if channel in LINES else band.centre_nm
    gathered = 0.0
    if channel in target.rayleigh:
        gathered += optics.line_e_s(target.rayleigh[channel]) * kept
    if channel in target.surface_ab:
        gathered += optics.surface_e_s(target.surface_ab[channel])
    return BandLight(
        channel,
        band.centre_nm,
        gathered,
        optics.surface_e_s(natural_ab),
        optics.surface_e_s(0.0) / photons_ab(0.0, band.centre_nm),
        extinction(line, extinction_v),
        rig.pixel_share(channel),
        kept,
        optics.point_e_s(0.0),
    )


def _light(rig: LightRig, through: BandFilter, band: PassBand, target: Glow, sky: SkyNow) -> Light:
    found = band_light(rig, through, band, target, sky.natural_ab, sky.extinction_v)
    down = sky.sun_depression_deg
    parts = found.sky_parts(
        np.array([sky.glow]), np.array([sky.moon_nl]), None if down is None else np.array([down])
    )
    return Light(
        float(found.target(np.array([sky.airmass]))[0]),
        {name: float(value[0]) for name, value in parts.items()},
        found.pixel_share,
        found.transmission,
    )


def _kept(rig: LightRig, through: BandFilter, band: PassBand) -> float:
    """Of a line in the rig's beam, over the peak of the band; all of a continuum."""
    if through.index is None or band.channel not in LINES:
        return 1.0
    ratio = rig.focal_mm / rig.aperture_mm
    return filter_shift(
        ratio,
        lines_of(band.channel),
        band.centre_nm,
        band.width_nm,
        through.index,
        rig.obstruction,
        through.shape,
    ).transmission

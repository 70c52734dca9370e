"""Rigs, sites and filters as the simulator and the planning know them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from .channel import WAVELENGTH_NM


@dataclass(frozen=True)
class Rig:
    """Telescope and camera. ``colour`` cameras see the three planes of a response table.

    Lengths in their units' names; obstruction is linear; quantum efficiency and throughput are 0 to
    1.
    """

    name: str
    aperture_mm: float
    focal_mm: float
    pixel_um: float
    obstruction: float = 0.0
    throughput: float = 0.85
    quantum_efficiency: float = 0.75
    read_noise_e: float = 1.5
    full_well_e: float = 50_000.0
    dark_e_s: float = 0.002
    fwhm_arcsec: float = 5.0
    colour: bool = False
    mirrored: bool = False

    @property
    def area_cm2(self) -> float:
        """Collecting area."""
        return float(np.pi / 4 * (self.aperture_mm / 10) ** 2 * (1 - self.obstruction**2))

    @property
    def scale_arcsec(self) -> float:
        """Arcseconds a pixel."""
        return 206.265 * self.pixel_um / self.focal_mm


@dataclass(frozen=True)
class Site:
    """A place to observe from; sky brightness in mag/arcsec2 (AB, V-like), north and east
    positive.
    """

    name: str
    latitude_deg: float
    longitude_deg: float
    elevation_m: float
    sky_mag: float


@dataclass(frozen=True)
class Filter:
    """A filter: the channels it passes and the width of each band."""

    name: str
    lines: tuple[str, ...]
    width_nm: float
    transmission: float = 0.92

    @property
    def centre_nm(self) -> float:
        """The middle of the band, nm."""
        return WAVELENGTH_NM[self.lines[0]]


SITES: Final = {
    "Ridge": Site("Ridge", -43.98, 170.46, 720.0, 21.6),
    "Balcony": Site("Balcony", -45.87, 170.50, 40.0, 18.8),
    "Shed": Site("Shed", -44.70, 169.15, 300.0, 20.6),
}
RIGS: Final = {
    "Ridge": Rig(
        "80 mm f/5.5 refractor, mono", 80, 440, 3.76, quantum_efficiency=0.80, fwhm_arcsec=5.0
    ),
    "Balcony": Rig(
        "150 mm f/4 reflector, colour",
        150,
        600,
        2.9,
        obstruction=0.35,
        throughput=0.78,
        read_noise_e=1.4,
        full_well_e=38_000,
        fwhm_arcsec=5.8,
        colour=True,
        mirrored=True,
    ),
    "Shed": Rig(
        "135 mm f/2 lens, mono",
        67.5,
        135,
        2.4,
        throughput=0.8,
        read_noise_e=1.8,
        full_well_e=14_000,
        fwhm_arcsec=7.5,
    ),
}
FILTERS: Final = {
    "Ha": Filter("Ha", ("Ha",), 3.0),
    "O3": Filter("O3", ("O3",), 3.0),
    "S2": Filter("S2", ("S2",), 3.0),
    "Hb": Filter("Hb", ("Hb",), 3.0),
    "Ha+O3": Filter("Ha+O3", ("Ha", "O3"), 6.0),
    "O3+S2": Filter("O3+S2", ("O3", "S2"), 6.0),
    "R": Filter("R", ("R",), 90.0),
    "G": Filter("G", ("G",), 80.0),
    "B": Filter("B", ("B",), 90.0),
    "L": Filter("L", ("L",), 280.0),
    "C": Filter("C", ("C",), 170.0),
    "Ha+O3+Hb": Filter("Ha+O3+Hb", ("Ha", "O3", "Hb"), 15.0),
}

"""What a rig behind a filter gathers: light of the target, share of a colour camera's pixels, and
what a narrow filter keeps in the rig's beam.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from ..model.channel import WAVELENGTH_NM
from ..model.rig import Rig
from .exposure import Optics
from .optics import clear_needed, corner_light, filter_shift, lines_of

COLOUR_SHARE: Final = {
    "Ha": 0.25,
    "S2": 0.25,
    "R": 0.25,
    "B": 0.25,
    "G": 0.5,
    "O3": 0.58,
    "Hb": 0.58,
}
"""Share of a colour camera's pixels that a channel counts for, in SNR squared over mono: red lines
on a quarter of them (SNR 0.50), O3 on green and blue (0.76).
"""
FAINT_GLOW_AB: Final = 23.5
"""Surface brightness of a faint glow in broadband, AB mag/arcsec2, where a target says nothing of
it.
"""
NARROW_NM: Final = 20.0
"""A filter no wider than this is narrow: its passband moves off the line in a fast beam."""
_CORNER_POOR: Final = 0.95
_LINE_POOR: Final = 0.85


def optics_of(rig: Rig, channel: str, width_nm: float, transmission: float) -> Optics:
    """A rig behind a filter of a channel."""
    return Optics(
        rig.aperture_mm,
        rig.focal_mm,
        rig.pixel_um,
        rig.throughput * rig.quantum_efficiency * transmission,
        WAVELENGTH_NM[channel],
        width_nm,
        rig.read_noise_e,
        rig.obstruction,
        rig.dark_e_s,
    )


def target_rate(optics: Optics, rayleigh: float | None) -> float:
    """Electrons a second and pixel of a line of so many rayleigh; of a faint glow in broadband
    where None.
    """
    if rayleigh is not None:
        return optics.line_e_s(rayleigh)
    return optics.surface_e_s(FAINT_GLOW_AB)


def pixel_share(rig: Rig, channel: str) -> float:
    """Share of the pixels that see a channel, as it counts for SNR squared: 1 for mono."""
    return COLOUR_SHARE.get(channel, 1.0) if rig.colour else 1.0


@dataclass(frozen=True)
class FilterCheck:
    """A filter at the rig's focal ratio: what it keeps of the line, the corner's light, the clear
    aperture needed.
    """

    channel: str
    kept: float | None
    corner: float
    clear_needed_mm: float

    @property
    def wants(self) -> bool:
        """Whether it is worth a warning."""
        return self.corner < _CORNER_POOR or (self.kept is not None and self.kept < _LINE_POOR)


def check_filter(
    rig: Rig,
    channel: str,
    width_nm: float,
    index: float,
    clear_mm: float,
    distance_mm: float,
    sensor_mm: tuple[float, float],
) -> FilterCheck:
    """A filter of refractive index ``index`` and clear aperture ``clear_mm``, ``distance_mm`` in
    front of a sensor (width, height in mm).
    """
    ratio = rig.focal_mm / rig.aperture_mm
    diagonal = (sensor_mm[0] ** 2 + sensor_mm[1] ** 2) ** 0.5
    kept = None
    if width_nm <= NARROW_NM:
        line = WAVELENGTH_NM[channel]
        kept = filter_shift(
            ratio, lines_of(channel), line, width_nm, index, rig.obstruction, "flat"
        ).transmission
    return FilterCheck(
        channel,
        kept,
        corner_light(clear_mm, diagonal, distance_mm, ratio),
        clear_needed(diagonal, distance_mm, ratio),
    )

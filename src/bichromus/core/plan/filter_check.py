"""What a filter keeps in a rig's beam, and whether it shades the sensor."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from ..model.channel import LINES
from ..model.rig import Rig
from .budget import BandFilter
from .optics import clear_needed, corner_light, filter_shift, lines_of

NARROW_NM: Final = 20.0
"""A filter no wider than this is narrow: its passband moves off the line in a fast beam."""
_CORNER_POOR: Final = 0.95
_LINE_POOR: Final = 0.85


@dataclass(frozen=True)
class FilterCheck:
    """A filter at the rig's focal ratio: what it keeps of the line of the ``channel`` that it
    serves worst (None: no narrow band), the corner's light, the clear aperture needed.
    """

    filter: str
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
    f: BandFilter,
    clear_mm: float,
    distance_mm: float,
    sensor_mm: tuple[float, float],
) -> FilterCheck:
    """A filter of clear aperture ``clear_mm``, ``distance_mm`` in front of a sensor (width, height
    in mm).
    """
    ratio = rig.focal_mm / rig.aperture_mm
    diagonal = (sensor_mm[0] ** 2 + sensor_mm[1] ** 2) ** 0.5
    kept = {
        b.channel: filter_shift(
            ratio, lines_of(b.channel), b.centre_nm, b.width_nm, f.index, rig.obstruction, f.shape
        ).transmission
        for b in f.bands
        if f.index is not None and b.channel in LINES and b.width_nm <= NARROW_NM
    }
    worst = min(kept, key=lambda c: kept[c], default=f.bands[0].channel)
    return FilterCheck(
        f.name,
        worst,
        kept.get(worst),
        corner_light(clear_mm, diagonal, distance_mm, ratio),
        clear_needed(diagonal, distance_mm, ratio),
    )

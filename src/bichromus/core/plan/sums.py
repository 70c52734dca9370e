"""Sums that people do on paper: spacing behind a reducer, a guider's branch, which optics fill the
frame, a mono camera against a colour one, and two filters by what their stacks show.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

from ..model.channel import WAVELENGTH_NM
from ..model.errors import InputError
from .budget import BandFilter, PassBand
from .optics import focus_shift
from .station import GOAL_SNR, Aim, Station
from .through import through_of

USUAL_GLASS: Final = 1.5168
"""Refractive index of a filter's glass: moves the focus back by a third of its thickness."""
SPACING_MM: Final = 0.5
"""Spacing within which corners stay as they are meant."""
FILLS: Final = 0.7
"""Share of the field that a target takes in a picture with room around it."""


@dataclass(frozen=True)
class Spacing:
    """Millimetres that the parts make, that are wanted with the glass between, and what is to be
    added (below zero: taken away).
    """

    parts_mm: float
    wanted_mm: float

    @property
    def add_mm(self) -> float:
        """To be added."""
        return self.wanted_mm - self.parts_mm

    @property
    def fits(self) -> bool:
        """Whether it is near enough."""
        return abs(self.add_mm) <= SPACING_MM


def back_focus(
    back_focus_mm: float,
    parts_mm: Sequence[float],
    glass_mm: float = 0.0,
    index: float = USUAL_GLASS,
) -> Spacing:
    """From a reducer or flattener to the sensor: its back focus, longer by what glass in between
    moves the focus. Raises InputError for lengths below zero.
    """
    if back_focus_mm <= 0 or glass_mm < 0 or min(parts_mm, default=0.0) < 0:
        raise InputError(
            "These lengths cannot be",
            why="a length is below zero, or there is no back focus",
            do="Give millimetres above zero",
        )
    shift = focus_shift(glass_mm, index) if glass_mm > 0 else 0.0
    return Spacing(sum(parts_mm), back_focus_mm + shift)


def guider_branch(
    to_sensor_mm: Sequence[float],
    to_guider_mm: Sequence[float],
    glass_mm: float = 0.0,
    index: float = USUAL_GLASS,
) -> Spacing:
    """From the prism of an off-axis guider: the way to the guide camera's sensor against that to
    the main one, which glass behind the prism makes optically shorter. Raises InputError.
    """
    whole = sum(to_sensor_mm)
    if whole <= 0 or min((*to_sensor_mm, *to_guider_mm, glass_mm)) < 0:
        raise InputError(
            "These lengths cannot be",
            why="a length is below zero, or the way to the sensor has none",
            do="Give millimetres above zero",
        )
    shift = focus_shift(glass_mm, index) if glass_mm > 0 else 0.0
    return Spacing(sum(to_guider_mm), whole - shift)


def focal_for(
    sensor_mm: tuple[float, float], size_deg: tuple[float, float], fill: float = FILLS
) -> float:
    """Focal length (mm) at which a target's axes take a share of the field, the long one along the
    longer side.
    """
    long, short = max(sensor_mm), min(sensor_mm)
    sides = ((long, max(size_deg)), (short, min(size_deg)))
    return min(side / (2 * math.tan(math.radians(size / fill / 2))) for side, size in sides)


@dataclass(frozen=True)
class CameraWay:
    """Hours of open shutter that a camera takes to show every line as well as wanted, by filter,
    and the scale at which it samples the line that it samples worst (arcsec).
    """

    hours: dict[str, float]
    scale_arcsec: float

    @property
    def whole(self) -> float:
        """All of them."""
        return sum(self.hours.values())


def mono_and_colour(
    station: Station, aim: Aim, width_nm: dict[str, float]
) -> tuple[CameraWay, CameraWay]:
    """The rig with a mono camera and a filter for each line, and with the same sensor under a
    colour matrix and filters of two lines. ``width_nm`` are the lines wanted with their filters'
    widths.
    """
    ways = []
    for colour in (False, True):
        rig = replace(station, rig=replace(station.rig, colour=colour))
        hours: dict[str, float] = {}
        for lines in _pairs(list(width_nm)) if colour else [(c,) for c in width_nm]:
            bands = tuple(PassBand(c, _centre(station, c), width_nm[c], 0.92) for c in lines)
            through = through_of(rig, BandFilter("+".join(lines), bands), aim)
            rates = [through.alone[c] for c in lines] if through is not None else []
            # a line that the filter before has had enough hours of wants none of this one's
            hours["+".join(lines)] = max((GOAL_SNR**2 / r for r in rates if r > 0), default=0.0)
        scale = 206.265 * rig.rig.pixel_um / rig.rig.focal_mm
        ways.append(CameraWay(hours, scale * (2.0 if colour else 1.0)))
    return ways[0], ways[1]


def _centre(station: Station, channel: str) -> float:
    found = [b for f in station.filters for b in f.bands if b.channel == channel]
    return found[0].centre_nm if found else WAVELENGTH_NM[channel]


def _pairs(lines: list[str]) -> list[tuple[str, ...]]:
    """Lines two by two, a red one with a green one where there are such."""
    red = [c for c in lines if c in ("Ha", "S2")]
    green = [c for c in lines if c not in red]
    out = []
    for n, line in enumerate(red):
        partner = green[n] if n < len(green) else None
        out.append((line, partner) if partner is not None else (line,))
    return [*out, *((c,) for c in green[len(red) :])]


def worth_of_hour(snr: float, hours: float) -> float:
    """SNR squared that an hour has brought to a stack. Raises InputError."""
    if snr <= 0 or hours <= 0:
        raise InputError(
            "These stacks cannot be compared",
            why=f"SNR {snr:g} after {hours:g} h",
            do="Give an SNR and hours above zero",
        )
    return snr**2 / hours

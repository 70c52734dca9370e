"""Three small checks: the filter's shift in a fast beam, corner shading by a small filter, focus
shift by glass.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Final

import numpy as np

from ..model.channel import WAVELENGTH_NM
from ..model.errors import InputError
from .earth import F64

S2_PAIR_NM: Final = (671.6, 673.1)
SHAPES: Final = ("top-hat", "gauss", "flat")
_RINGS, _SPOKES = 4000, 181


@dataclass(frozen=True)
class Shift:
    """Shift of the passband's centre at the edge of the cone and on average (nm); what is left of
    the line, 0 to 1.
    """

    edge_nm: float
    mean_nm: float
    transmission: float


def lines_of(channel: str) -> tuple[float, ...]:
    """Wavelengths (nm) of a channel's light in a narrow filter: S2 is two lines."""
    return S2_PAIR_NM if channel == "S2" else (WAVELENGTH_NM[channel],)


def _shifted(wavelength: float, sin2: F64 | float, index: float) -> F64:
    return np.asarray(wavelength * np.sqrt(1 - np.asarray(sin2) / index**2))


def _band(distance: F64, shape: str) -> F64:
    """Passband at ``distance`` half widths from its centre."""
    if shape == "top-hat":
        return np.asarray((np.abs(distance) <= 1 + 1e-12).astype(float))
    power = {"gauss": 2, "flat": 6}[shape]
    return np.asarray(np.exp(-math.log(2) * np.abs(distance) ** power))


@lru_cache(maxsize=256)
def filter_shift(
    f_ratio: float,
    lines_nm: tuple[float, ...],
    centre_nm: float,
    width_nm: float,
    index: float,
    obstruction: float = 0.0,
    shape: str = "top-hat",
    chief_ray_deg: float = 0.0,
) -> Shift:
    """A filter in a converging beam; the pupil is filled evenly from the obstruction outward."""
    if (
        f_ratio < 0.5
        or not 0 <= obstruction < 1
        or index < 1
        or width_nm <= 0
        or not 0 <= chief_ray_deg < 80
    ):
        raise InputError(
            "This beam or filter cannot be",
            why=f"f/{f_ratio:g}, obstruction {obstruction:g}, index "
            f"{index:g}, width {width_nm:g} nm",
            do="Check the figures",
        )
    if shape not in SHAPES:
        raise InputError(
            "There is no such passband", why=shape, do=f"Use one of {', '.join(SHAPES)}"
        )
    edge = 1 / (2 * f_ratio)
    share = (np.arange(_RINGS) + 0.5) / _RINGS
    radius = np.sqrt(obstruction**2 + share * (1 - obstruction**2)) * edge
    straight = _shifted(centre_nm, radius**2, index)
    sin2: F64 = radius**2
    if chief_ray_deg:
        turn = np.cos(np.linspace(0, np.pi, _SPOKES))[None, :]
        tilt = math.radians(chief_ray_deg)
        ring = radius[::8, None]
        cosine = ring * turn * math.sin(tilt) + np.sqrt(1 - ring**2) * math.cos(tilt)
        sin2 = 1 - cosine**2
    centre = _shifted(centre_nm, sin2, index)
    kept = float(
        np.mean(
            [
                _mean(_band((line - centre) / (width_nm / 2), shape), bool(chief_ray_deg))
                for line in lines_nm
            ]
        )
    )
    return Shift(
        float(_shifted(centre_nm, edge**2, index)) - centre_nm,
        float(straight.mean()) - centre_nm,
        kept,
    )


def _mean(values: F64, spokes: bool) -> float:
    if not spokes:
        return float(values.mean())
    return float(np.trapezoid(values, axis=1).mean() / (values.shape[1] - 1))


def corner_light(clear_mm: float, diagonal_mm: float, distance_mm: float, f_ratio: float) -> float:
    """Share of the corner's light that passes a filter's clear aperture."""
    r, big = distance_mm / f_ratio / 2, clear_mm / 2
    away = diagonal_mm / 2
    if r <= 0:
        return 1.0 if away <= big else 0.0
    if away + r <= big:
        return 1.0
    if away >= big + r:
        return 0.0
    if away + big <= r:
        return (big / r) ** 2
    a = r * r * math.acos((away**2 + r * r - big**2) / (2 * away * r))
    b = big**2 * math.acos((away**2 + big**2 - r * r) / (2 * away * big))
    c = 0.5 * math.sqrt((-away + r + big) * (away + r - big) * (away - r + big) * (away + r + big))
    return (a + b - c) / (math.pi * r * r)


def clear_needed(diagonal_mm: float, distance_mm: float, f_ratio: float) -> float:
    """Clear aperture that cuts nothing."""
    return diagonal_mm + distance_mm / f_ratio


def focus_shift(glass_mm: float, index: float) -> float:
    """How far glass in the beam moves the focus back, mm."""
    return glass_mm * (1 - 1 / index)

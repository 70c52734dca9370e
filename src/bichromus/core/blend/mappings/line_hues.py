"""Each line in the hue of its light, as vivid as the screen can show it."""

from __future__ import annotations

from collections.abc import Collection
from functools import cache
from typing import Final

import numpy as np

from ...model.channel import LINES
from ...model.planes import F32
from ...model.settings import OUTPUTS, BlendSettings
from ...numerics.oklab import encode_exact, from_oklab
from .base import Mapping, Mix

_HUE: Final = {"Ha": 21.2, "S2": 20.7, "O3": 176.0, "Hb": 199.1}
_SPREAD: Final = {"Ha": 14.0, "S2": -16.0, "O3": 0.0, "Hb": 10.0}
"""Oklab hue of each line's light in degrees, and how far the spread moves it: Ha and S2 look alike,
and keep the order of their wavelengths.
"""


def _mix(settings: BlendSettings, channels: Collection[str]) -> Mix:
    return _line_hues([n for n in LINES if n in channels], settings.hue_spread)


def _line_hues(lines: list[str], spread: float) -> Mix:
    """Each line at its own hue, as vivid as sRGB shows it; scaled so that no output takes more than
    1.
    """
    columns = {
        n: cusp_colour(
            round((_HUE[n] + spread * _SPREAD[n]) % 360, 3), -0.10 * spread if n == "S2" else 0.0
        )
        for n in lines
    }
    loudest = max(sum(c[i] for c in columns.values()) for i in range(3))
    return {
        o: {n: round(columns[n][i] / loudest, 4) for n in lines if columns[n][i] > 5e-3}
        for i, o in enumerate(OUTPUTS)
    }


@cache
def cusp_colour(hue_deg: float, lightness_step: float = 0.0) -> tuple[float, float, float]:
    """sRGB code of the most vivid colour of an Oklab hue; ``lightness_step`` moves it along the
    lightness.
    """
    best_chroma, best_light = -1.0, 1.0
    for light in np.linspace(0.3, 0.98, 137):
        chroma = _most_chroma(float(light), hue_deg)
        if chroma > best_chroma:
            best_chroma, best_light = chroma, float(light)
    light = best_light + lightness_step
    rgb = encode_exact(np.clip(_rgb(light, _most_chroma(light, hue_deg), hue_deg), 0, 1))
    return float(rgb[0]), float(rgb[1]), float(rgb[2])


def _most_chroma(light: float, hue_deg: float) -> float:
    low, high = 0.0, 0.5
    for _ in range(24):
        middle = (low + high) / 2
        rgb = _rgb(light, middle, hue_deg)
        low, high = (
            (middle, high) if rgb.min() >= -1e-5 and rgb.max() <= 1 + 1e-5 else (low, middle)
        )
    return low


def _rgb(light: float, chroma: float, hue_deg: float) -> F32:
    hue = np.deg2rad(hue_deg)
    lab = np.array([[light], [chroma * np.cos(hue)], [chroma * np.sin(hue)]], np.float32)
    return from_oklab(lab)[:, 0]


MAPPING = Mapping(
    "line-hues",
    "True line hues",
    "each line in the hue of its light",
    ("Ha", "O3"),
    _mix,
    order=40,
    controls=("hue_spread",),
)

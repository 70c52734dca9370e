"""Sets of stars to be put back on a picture: in natural colour from red, green and blue, or from
the lines.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.channel import COLOURS, LINES, WAVELENGTH_NM
from ..model.measures import Stars
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from .chroma import ColouredStars, colour_stars

USUAL_FWHM_PX: Final = 3.0
"""Star width where a channel has too few stars to tell its own: that of usual sampling."""
_RED_FROM_NM: Final = 600.0
"""Lines longer than this shine in red, shorter ones in blue and green."""


@dataclass(frozen=True)
class StarLayer:
    """The stars of a channel: the plane (H, W) with its sky at 0, their width, the channel's noise
    and the level of a full core.
    """

    plane: F32
    fwhm_px: float
    sigma: float
    top: float | None = None


def sources_of(channels: Mapping[str, object] | set[str]) -> tuple[str, ...]:
    """Sets that star layers of these channels allow: rgb, lines."""
    there = set(channels)
    rgb, lines = set(COLOURS) <= there, bool(there & set(LINES))
    return tuple(s for s, can in (("rgb", rgb), ("lines", lines)) if can)


def members(source: str, channels: Mapping[str, object]) -> tuple[str, ...]:
    """The channels that a set is made of."""
    return COLOURS if source == "rgb" else tuple(n for n in LINES if n in channels)


def star_set(
    source: str, layers: Mapping[str, StarLayer], stars: Stars, progress: Progress = SILENT
) -> ColouredStars:
    """The stars of a set as balanced planes in R, G and B. From lines, red takes the long ones,
    blue the short ones and green both, so that the middle star is white whatever palette they stand
    on.

    Raises NotEnoughData under 12 stars that tell their colour.
    """
    three = [layers[c] for c in COLOURS] if source == "rgb" else _from_lines(layers, stars)
    return colour_stars(
        [t.plane for t in three],
        stars,
        [t.fwhm_px for t in three],
        [t.sigma for t in three],
        [t.top for t in three],
        progress,
    )


def _from_lines(layers: Mapping[str, StarLayer], stars: Stars) -> list[StarLayer]:
    lines = [n for n in LINES if n in layers]
    gains = {n: 1.0 / _brightness(layers[n].plane, stars) for n in lines}
    long = [n for n in lines if WAVELENGTH_NM[n] > _RED_FROM_NM]
    short = [n for n in lines if n not in long]
    return [
        _sum({n: layers[n] for n in part}, gains) for part in (long or short, lines, short or long)
    ]


def _sum(parts: Mapping[str, StarLayer], gains: Mapping[str, float]) -> StarLayer:
    share = {n: gains[n] / len(parts) for n in parts}
    plane = np.zeros_like(next(iter(parts.values())).plane)
    for n, part in parts.items():
        plane += np.float32(share[n]) * part.plane
    tops = [part.top * share[n] for n, part in parts.items() if part.top is not None]
    return StarLayer(
        plane,
        max(p.fwhm_px for p in parts.values()),
        float(np.hypot.reduce([share[n] * p.sigma for n, p in parts.items()])),
        min(tops, default=None),
    )


def _brightness(plane: F32, stars: Stars) -> float:
    """How bright a channel's stars are, roughly: the median of what its layer holds at them."""
    height, width = plane.shape
    x = np.clip(np.rint(np.array(stars.x)).astype(int), 0, width - 1)
    y = np.clip(np.rint(np.array(stars.y)).astype(int), 0, height - 1)
    bright = plane[y, x][plane[y, x] > 0]
    return float(np.median(bright)) if bright.size else 1.0

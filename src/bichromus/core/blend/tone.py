"""What is done to the lightness of the whole picture: a curve through points, and contrast in
bright cores.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Final

import numpy as np
import scipy

from ..model.planes import F32
from ..model.settings import ToneSettings
from .masks import smoothstep

_NODES: Final = 1024
_DARKEST: Final = 1e-3
BRIGHT_FROM, BRIGHT_TO = 90.0, 99.5
"""Percentiles of the blurred lightness between which a place begins to count as a core."""


@dataclass(frozen=True)
class Cores:
    """Lightness (blurred) at which cores begin, and at which they are cores wholly."""

    start: float
    end: float

    @classmethod
    def of(cls, soft: F32) -> Cores:
        """From the blurred lightness of the whole picture."""
        low, high = np.percentile(soft, [BRIGHT_FROM, BRIGHT_TO])
        return cls(float(low), max(float(high), float(low) + 0.02))


def open_cores(lab: F32, soft: F32, amount: float, cores: Cores) -> None:
    """Press the blurred light of cores down and leave what stands out of it, on Oklab (3, N) in
    place: L - a w (B - m). Colour goes along.
    """
    weight = smoothstep(soft, cores.start, cores.end)
    weight *= soft - np.float32(cores.start)
    weight *= np.float32(amount)
    np.subtract(lab[0], weight, out=weight)
    _take(lab, np.clip(weight, np.float32(0), np.float32(1), out=weight))


class LightnessCurve:
    """A rising curve through (0, 0), the points and (1, 1), without overshoot (PCHIP: Fritsch &
    Carlson 1980). Colour is scaled with the lightness.
    """

    def __init__(self, settings: ToneSettings) -> None:
        self._y, self._rise = _nodes(settings.points)

    def __call__(self, lightness: F32) -> F32:
        """The lightness that comes of it."""
        at = np.clip(lightness, np.float32(0), np.float32(1))
        at *= np.float32(_NODES - 1)
        node = at.astype(np.int32)
        at -= node
        at *= self._rise[node]
        at += self._y[node]
        return np.asarray(at, np.float32)

    def apply(self, lab: F32) -> None:
        """On Oklab (3, N), in place."""
        _take(lab, self(lab[0]))


@lru_cache(maxsize=8)
def _nodes(points: tuple[tuple[float, float], ...]) -> tuple[F32, F32]:
    """Values of the curve at even steps, and how it rises from each to the next."""
    x, y = zip((0.0, 0.0), *points, (1.0, 1.0), strict=True)
    nodes = np.clip(
        scipy.interpolate.PchipInterpolator(x, y)(np.linspace(0, 1, _NODES)), 0, 1
    ).astype(np.float32)
    return nodes, np.append(np.diff(nodes), np.float32(0))


def _take(lab: F32, lightness: F32) -> None:
    ratio = lightness / np.maximum(lab[0], np.float32(_DARKEST))
    lab[1] *= ratio
    lab[2] *= ratio
    lab[0] = lightness

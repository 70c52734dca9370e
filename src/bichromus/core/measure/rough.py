"""Figures of a small picture at a glance: enough to show it, never to judge by."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.measures import Measure, Noise, Stars
from ..model.planes import F32
from ..numerics.robust import step_sigma
from ..numerics.smoothing import gaussian
from ..numerics.surface import low_surface
from .centroids import centroids
from .profiles import F64
from .stars import find_peaks, zero_sum

_CALM_PX: Final = 3.0
_REGION: Final = 0.90  # quantile of the calm plane from which light counts as signal
_STANDS_OUT: Final = 1.0  # sigma of a pixel that the signal reaches at least
_WHITE: Final = 0.9999
_WIDTH_PX: Final = 2.5  # of stars in a picture made small
_MOST: Final = 400


def rough_measure(plane: F32, channel: str) -> Measure:
    """Background, noise and signal of a finite plane (H, W), by eye measure: no stars, no SNR."""
    calm = gaussian(plane, _CALM_PX)
    surface = low_surface(calm)
    above = calm - surface.rows(0, plane.shape[0])
    sigma = max(step_sigma(plane), 1e-30)
    bright = above[above >= np.quantile(above, _REGION)]
    signal = float(np.median(bright)) if bright.size else 0.0
    shape = int(plane.shape[0]), int(plane.shape[1])
    return Measure(
        channel,
        shape,
        surface,
        Noise(sigma, None, None, 0),
        signal,
        signal if signal > _STANDS_OUT * sigma else max(signal, 0.0),
        1 - _REGION,
        None,
        Stars(0, None, None, None, 0),
        float(np.quantile(plane, _WHITE)) - surface.a,
    )


def rough_stars(plane: F32) -> tuple[tuple[F64, F64], F64]:
    """Places (x, y) and light of the brightest stars of a plane made small, the brightest first."""
    peaks = find_peaks(zero_sum(plane, _WIDTH_PX), _WIDTH_PX)
    order = np.argsort(peaks.strength)[::-1][:_MOST]
    x, y, light = centroids(plane, peaks.x[order], peaks.y[order], _WIDTH_PX)
    good = np.isfinite(x) & (light > 0)
    by_light = np.argsort(light[good])[::-1]
    return (x[good][by_light], y[good][by_light]), light[good][by_light]

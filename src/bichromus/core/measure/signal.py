"""Signal of channels: where it is, how strong it is."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.measures import Signal, Surface
from ..model.planes import F32, Mask
from ..numerics.smoothing import fill, gaussian
from ..numerics.surface import low_surface

SMOOTH_PX: Final = 6.0
_WHITE_AFTER: Final = 2 * np.sqrt(np.pi) * SMOOTH_PX
MIN_REGION: Final = 0.002
"""Share of the frame below which a region holds no signal."""
_BRIGHTEST: Final = 0.90  # quantile from which a pixel belongs to the region
_STANDS_OUT: Final = 4.0  # sigma that it must reach, too


def smoothed(plane: F32, stars: Mask) -> tuple[F32, Surface]:
    """The plane without stars, smoothed by 6 px, its low plane taken off; and that low plane."""
    missing = ~np.isfinite(plane) | stars
    calm = gaussian(fill(plane, missing), SMOOTH_PX)
    surface = low_surface(calm, ~stars)
    return calm - surface.rows(0, plane.shape[0]), surface


def region_of(calm: F32, sigma_eff: float, seen: Mask) -> Mask:
    """Signal region: smoothed signal over its noise at least the 90th percentile and 4."""
    z = calm / (sigma_eff / _WHITE_AFTER)
    values = z[seen]
    if not values.size:
        return np.zeros(calm.shape, bool)
    return np.asarray(
        (z >= max(float(np.quantile(values, _BRIGHTEST)), _STANDS_OUT)) & seen, np.bool_
    )


def signal_in(calm: F32, region: Mask, seen: Mask) -> Signal:
    """Mean and median of the smoothed signal over ``region``; zeros where the region is empty."""
    share = float(region.sum()) / max(int(seen.sum()), 1)
    if not region.any():
        return Signal(0.0, 0.0, 0.0, region)
    values = calm[region]
    return Signal(float(values.mean(dtype=np.float64)), float(np.median(values)), share, region)

"""Signal of channels: where it is, how strong it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.measures import Signal, Surface
from ..model.planes import F32, Mask
from ..numerics.smoothing import filled_means, gaussian
from ..numerics.surface import low_surface

SMOOTH_PX: Final = 6.0
_WHITE_AFTER: Final = 2 * np.sqrt(np.pi) * SMOOTH_PX
MIN_REGION: Final = 0.002
"""Share of the frame below which a region holds no signal."""
_BRIGHTEST: Final = 0.90  # quantile from which a pixel belongs to the region
_STANDS_OUT: Final = 4.0  # sigma that it must reach, too
_COARSER, _SMALL_PX = 4, 128
"""Grid on which what is smoothed by 6 px is told, for planes that have so many pixels a side."""
_SEEN: Final = 0.5  # share of a point of the grid without stars, from which it counts
_CELL_PX: Final = 32


@dataclass(frozen=True)
class Calm:
    """A channel without stars, smoothed by 6 px, its low plane taken off, on a grid four times
    coarser than the picture (h, w); where it counts; that low plane, of the picture; and how many
    times coarser the grid is.
    """

    plane: F32
    seen: Mask
    surface: Surface
    factor: int


def smoothed(plane: F32, stars: Mask) -> Calm:
    """A channel (H, W) made calm; ``stars`` and NaN do not count."""
    factor = _COARSER if min(plane.shape) >= _SMALL_PX else 1
    means, known = filled_means(plane, np.isfinite(plane) & ~stars, factor)
    own = (factor**2 - 1) / 12  # the blur that the means are
    calm = gaussian(means, float(np.sqrt(SMOOTH_PX**2 - own)) / factor)
    seen = known > _SEEN
    coarse = low_surface(calm, seen, cell=_CELL_PX // factor)
    flat = calm - coarse.rows(0, calm.shape[0])
    return Calm(flat, seen, _finer(coarse, factor, (plane.shape[0], plane.shape[1])), factor)


def _finer(coarse: Surface, factor: int, shape: tuple[int, int]) -> Surface:
    """The same plane over a picture (H, W) of which it saw means."""
    height, width = shape
    bx, by = coarse.bx / factor, coarse.by / factor
    right, down = (width - factor * coarse.width) / 2, (height - factor * coarse.height) / 2
    return Surface(coarse.a + bx * right + by * down, bx, by, width, height)


def region_of(calm: Calm, sigma_eff: float) -> Mask:
    """Signal region: smoothed signal over its noise at least the 90th percentile and 4."""
    if sigma_eff <= 0:  # a plane without noise holds no measure of what stands out
        return np.zeros(calm.plane.shape, bool)
    z = calm.plane / (_at_edges(calm.plane.shape, calm.factor) * (sigma_eff / _WHITE_AFTER))
    values = z[calm.seen]
    if not values.size:
        return np.zeros(calm.plane.shape, bool)
    least = max(float(np.quantile(values, _BRIGHTEST)), _STANDS_OUT)
    return np.asarray((z >= least) & calm.seen, np.bool_)


def _at_edges(shape: tuple[int, int], factor: int) -> F32:
    """How many times noisier a mirrored plane (h, w) is near its edges than amid, once smoothed:
    at a distance d the kernel meets its own image, and the variance grows by 1 + exp(-d^2/s^2).
    """

    def along(size: int) -> F32:
        far = (np.arange(size, dtype=np.float32) + 0.5) * factor / SMOOTH_PX
        near = np.exp(-(far**2))
        return np.sqrt(1 + near + near[::-1]).astype(np.float32)

    return np.outer(along(shape[0]), along(shape[1])).astype(np.float32)


def signal_in(calm: Calm, region: Mask) -> Signal:
    """Mean and median of the smoothed signal over ``region``; zeros where the region is empty."""
    share = float(region.sum()) / max(int(calm.seen.sum()), 1)
    if not region.any():
        return Signal(0.0, 0.0, 0.0, region)
    values = calm.plane[region]
    return Signal(float(values.mean(dtype=np.float64)), float(np.median(values)), share, region)

"""Robust statistics. NaN never counts."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

MAD_TO_SIGMA = 1.4826
"""Standard deviation of a Gaussian over its median absolute deviation."""
FWHM_TO_SIGMA = 2.355
"""Full width at half maximum of a Gaussian over its standard deviation."""
RAYLEIGH_MEDIAN = 1.177
"""Median distance from the middle of a round Gaussian over its standard deviation."""
MEDIAN_NOISE = 1.2533
"""Noise of a median over that of a mean, for Gaussian values."""
CLIP_3_SIGMA = 1.0136  # standard deviation of a Gaussian over the one left by clipping at 3 sigma


def mad_sigma(values: NDArray[Any]) -> float:
    """Standard deviation from the median absolute deviation; NaN for nothing."""
    v = values[np.isfinite(values)]
    if v.size == 0:
        return float("nan")
    return float(MAD_TO_SIGMA * np.median(np.abs(v - np.median(v))))


def clipped_sigma(values: NDArray[Any], rounds: int = 8) -> float:
    """Standard deviation with clipping at 3 sigma, corrected for what the clipping takes off."""
    v = np.asarray(values).ravel()
    v = np.sort(v[np.isfinite(v)])
    if v.size < 8:
        return float("nan")
    middle = (float(v[(v.size - 1) // 2]) + float(v[v.size // 2])) / 2
    off = v.astype(np.float64) - middle
    sigma = MAD_TO_SIGMA * _middle_size(off)
    # of sorted values what is kept lies side by side: its sums are differences
    sums, squares = (np.concatenate([[0.0], np.cumsum(p)]) for p in (off, off * off))
    at = 0.0
    for _ in range(rounds):
        first = int(np.searchsorted(off, at - 3 * sigma, "left"))
        last = int(np.searchsorted(off, at + 3 * sigma, "right"))
        count = last - first
        if count < 8:
            break
        at = float(sums[last] - sums[first]) / count
        square = float(squares[last] - squares[first]) / count
        new = float(np.sqrt(max(square - at * at, 0.0))) * CLIP_3_SIGMA
        if abs(new - sigma) <= 1e-5 * sigma:
            return new
        sigma = new
    return sigma


def _middle_size(off: NDArray[np.float64]) -> float:
    """Median of the absolute of sorted values (N,): those below nought, turned about, and those
    above are sorted too, so that it is found by halving.
    """
    first = int(np.searchsorted(off, 0.0))
    low, high = -off[:first][::-1], off[first:]

    def least(count: int) -> float:
        """The least value that ``count`` others do not exceed."""
        a, b = max(0, count - len(high)), min(count, len(low))
        while a < b:  # how many of them are among the low ones
            half = (a + b) // 2
            if low[half] < high[count - half - 1]:
                a = half + 1
            else:
                b = half
        rest = count - a
        return float(min(p[n] for p, n in ((low, a), (high, rest)) if n < len(p)))

    return (least((off.size - 1) // 2) + least(off.size // 2)) / 2


def step_sigma(plane: NDArray[Any]) -> float:
    """Noise of a finite plane (H, W) from the steps between neighbours in a row, rough but blind to
    slopes.
    """
    return MAD_TO_SIGMA * float(np.median(np.abs(np.diff(plane, axis=1)))) / float(np.sqrt(2))


def low_of_groups(
    values: NDArray[Any], group: NDArray[np.integer], count: int, share: float, fewest: int
) -> NDArray[np.float64]:
    """The quantile ``share`` of the values (N,) of each group 0 to ``count``, linear between them;
    NaN for one of less than ``fewest`` values.
    """
    order = np.argsort(values)
    # few groups are sorted by counting, which keeps the order within them
    few = group[order].astype(np.min_scalar_type(max(count - 1, 0)))
    order = order[np.argsort(few, kind="stable")]
    sorted_values = values[order].astype(np.float64)
    sizes = np.bincount(group, minlength=count)[:count]
    out = np.full(count, np.nan)
    told = np.flatnonzero(sizes >= fewest)
    if told.size:
        first = np.concatenate([[0], np.cumsum(sizes)[:-1]])[told]
        at = share * (sizes[told] - 1)
        low = np.floor(at).astype(int)
        high = np.minimum(low + 1, sizes[told] - 1)
        below, above = sorted_values[first + low], sorted_values[first + high]
        out[told] = below + (at - low) * (above - below)
    return out


def weighted_median(values: np.ndarray, weights: np.ndarray) -> tuple[float, float]:
    """Weighted median of values (N,), and its standard error from their scatter about it."""
    order = np.argsort(values)
    share = np.cumsum(weights[order])
    middle = float(np.interp(0.5 * share[-1], share - 0.5 * weights[order], values[order]))
    off = np.abs(values - middle)
    scatter = MAD_TO_SIGMA * float(np.median(off))
    used = share[-1] ** 2 / float((weights**2).sum())
    return middle, MEDIAN_NOISE * scatter / float(np.sqrt(used))

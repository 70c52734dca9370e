"""Noise from pixel to pixel and on large scales, measured where nothing else is."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.measures import Noise
from ..model.planes import F32, Mask
from ..numerics.robust import clipped_sigma
from ..numerics.smoothing import fill
from ..numerics.starlet import WHITE, details
from ..numerics.surface import low_surface

_BLOCK: Final = 32
_QUIET_SHARE: Final = 0.12
_MIN_BLOCKS: Final = 8
_MAX_RATIO: Final = 5.0  # no usual processing smooths noise more; what does is nebula
_TO_LARGE: Final = 1.27
"""Power of the ratio of two scales' noise that reaches the large scale, from known processing."""
_MOST_EXCESS: Final = 1.3  # of the third scale over what the first two tell: more is nebula
_EXCESS_SLOPE: Final = 0.135
_BLOCK_SEEN: Final = 0.6  # share of a block that must be free of stars


def measure_noise(
    plane: F32,
    halves: tuple[F32, F32] | None = None,
    avoid: Mask | None = None,
) -> Noise:
    """Noise of ``plane`` (H, W) by starlet planes on quiet 32-pixel blocks.

    ``sigma_px`` comes from the finest scale. ``sigma_eff``, the white noise of the same strength on
    large scales, comes from the difference of two half-stacks where given, else from the power law
    sigma_1 (sigma_2/sigma_1)^1.27. It is refused
    (None, with a warning) where nebula reaches everywhere or fewer than 8 blocks are quiet. NaN and
    pixels of ``avoid`` do not count.
    """
    missing = ~np.isfinite(plane)
    clear = ~missing if avoid is None else ~(missing | avoid)
    whole = fill(plane, ~clear)  # a star's light would spill from its disc into the coarser scales
    if min(plane.shape) < 4 * _BLOCK:
        return _small(whole, clear)
    planes = details(whole, 6)
    blocks, warned = _quiet_blocks(whole, planes[5], clear)
    sigma = [sigma_in(planes[j], blocks, clear) / WHITE[j] for j in range(4)]
    warnings: list[str] = []
    sigma_px = sigma[0]
    if halves is not None:
        apart = (
            fill(halves[0], ~np.isfinite(halves[0])) - fill(halves[1], ~np.isfinite(halves[1]))
        ) / 2
        eff = sigma_in(details(apart.astype(np.float32), 4)[3], blocks, clear) / WHITE[3]
        return Noise(sigma_px, eff, "half-stacks", len(blocks))
    ratio = sigma[1] / sigma[0] if sigma[0] > 0 else 1.0
    excess = (sigma[2] / max(sigma[1], 1e-30)) / (1 + _EXCESS_SLOPE * (ratio - 1))
    nebulous = excess > _MOST_EXCESS or ratio**_TO_LARGE > _MAX_RATIO
    if nebulous or len(blocks) < _MIN_BLOCKS or warned:
        why = "nebula reaches everywhere" if nebulous else "hardly any quiet sky is left"
        warnings.append(
            f"Large-scale noise cannot be told from nebula ({why}): "
            "the pixel noise is used instead."
        )
        return Noise(sigma_px, None, None, len(blocks), tuple(warnings))
    return Noise(sigma_px, sigma_px * ratio**_TO_LARGE, "power-law", len(blocks))


def quiet_scales(plane: F32, avoid: Mask | None = None) -> tuple[float, ...] | None:
    """Standard deviation of the four finest starlet scales on the quiet blocks of a plane (H, W);
    None where it is too small or has no quiet sky. NaN and pixels of ``avoid`` do not count.
    """
    missing = ~np.isfinite(plane)
    clear = ~missing if avoid is None else ~(missing | avoid)
    if min(plane.shape) < 4 * _BLOCK:
        return None
    whole = fill(plane, ~clear)
    planes = details(whole, 6)
    blocks, warned = _quiet_blocks(whole, planes[5], clear)
    return None if warned else tuple(sigma_in(planes[j], blocks, clear) for j in range(4))


def _small(whole: F32, clear: Mask) -> Noise:
    sigma = clipped_sigma(details(whole, 1)[0][clear]) / WHITE[0]
    return Noise(sigma, None, None, 0, ("The picture is too small to tell large-scale noise.",))


def quiet_blocks(
    whole: F32, clear: Mask, share: float = _QUIET_SHARE
) -> tuple[list[tuple[int, int]], bool]:
    """Corners (y, x) of the quietest ``share`` of 32-pixel blocks of a finite plane (H, W), and
    whether they are too few.
    """
    return _quiet_blocks(whole, details(whole, 6)[5], clear, share)


def _quiet_blocks(
    whole: F32, w6: F32, clear: Mask, share: float = _QUIET_SHARE
) -> tuple[list[tuple[int, int]], bool]:
    """Corners (y, x) of the lowest blocks by large-scale energy and level above the low plane."""
    rows, columns = whole.shape[0] // _BLOCK, whole.shape[1] // _BLOCK
    if not rows or not columns:
        return [], True
    surface = low_surface(whole, clear)
    height, width = rows * _BLOCK, columns * _BLOCK

    def blocked(plane: F32) -> np.ndarray:
        return (
            plane[:height, :width]
            .reshape(rows, _BLOCK, columns, _BLOCK)
            .swapaxes(1, 2)
            .reshape(rows * columns, -1)
        )

    seen = blocked(clear.astype(np.float32)).mean(1) > _BLOCK_SEEN
    seen &= np.ptp(blocked(whole), axis=1) > 0  # a border that stacking left empty has no noise
    energy = np.sqrt((blocked(w6) ** 2).mean(1))
    level = np.median(blocked(whole - surface.rows(0, whole.shape[0])), axis=1)
    scale = np.median(energy[seen]) if seen.any() else 1.0
    spread = np.median(np.abs(level[seen] - np.median(level[seen]))) if seen.any() else 1.0
    above = np.maximum(level - np.quantile(level, 0.05), 0)
    rank = energy / max(float(scale), 1e-30) + above / max(float(spread), 1e-30)
    rank[~seen] = np.inf
    wanted = max(_MIN_BLOCKS, round(share * rank.size))
    order = [int(i) for i in np.argsort(rank)[:wanted] if np.isfinite(rank[i])]
    return [(i // columns * _BLOCK, i % columns * _BLOCK) for i in order], len(order) < _MIN_BLOCKS


def sigma_in(detail: F32, blocks: list[tuple[int, int]], clear: Mask) -> float:
    """Clipped standard deviation of a plane (H, W) in blocks."""
    values = values_in(detail, blocks, clear)
    return clipped_sigma(values) if values.size else float("nan")


def values_in(detail: F32, blocks: list[tuple[int, int]], clear: Mask) -> F32:
    """Clear values (n,) of a plane (H, W) in blocks; everywhere where there is no block."""
    if not blocks:
        return detail[clear]
    cuts = [(slice(y, y + _BLOCK), slice(x, x + _BLOCK)) for y, x in blocks]
    return np.concatenate([detail[cut][clear[cut]] for cut in cuts])

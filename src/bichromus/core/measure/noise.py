"""Noise from pixel to pixel and on large scales, measured where nothing else is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.measures import Noise
from ..model.planes import F32, Mask
from ..numerics.bands import mirrored
from ..numerics.robust import clipped_sigma
from ..numerics.smoothing import fill, filled_means
from ..numerics.starlet import WHITE, details
from ..numerics.surface import low_surface

_BLOCK: Final = 32
_QUIET_SHARE: Final = 0.12
_MIN_BLOCKS: Final = 8
_MAX_RATIO: Final = 5.0  # no usual processing smooths noise more; what does is nebula
TO_LARGE: Final = 1.27
"""Power of the ratio of two scales' noise that reaches the large scale, from known processing."""
_MOST_EXCESS: Final = 1.3  # of the third scale over what the first two tell: more is nebula
_EXCESS_SLOPE: Final = 0.135
_CALMEST: Final = 4  # the calmest of so many quiet blocks tell what light would blur
_LIGHT_FALLS: Final = 0.026
"""Power of a nebula's light on the second scale over the third, over white noise: .021 to .031 for
clouds and threads of all widths."""
_KEPT: Final = (
    0.1  # of the second scale's power that is noise in any case: light is told to a fifth
)
_ROUNDS: Final = 6
_PIXEL_NOISE: Final = "the pixel noise is used instead."
_BLOCK_SEEN: Final = 0.6  # share of a block that must be free of stars
_COARSER, _THIN = 8, 4
"""Pixels whose means tell how quiet a block is, and of which one tells whether it has noise."""
_ENOUGH: Final = 640  # blocks: 650,000 pixels tell a sigma to a thousandth


def measure_noise(
    plane: F32,
    halves: tuple[F32, F32] | None = None,
    avoid: Mask | None = None,
) -> Noise:
    """Noise of ``plane`` (H, W) by starlet planes on quiet 32-pixel blocks.

    ``sigma_px`` comes from the finest scale. ``sigma_eff``, the white noise of the same strength on
    large scales, comes from the difference of two half-stacks where given, else from the power law
    sigma_1 (sigma_2/sigma_1)^1.27. Where
    nebula reaches everywhere the two finest scales of the calmest blocks tell it (kappa, with a
    warning); where fewer than 8 blocks are quiet it is refused (None, with a warning). NaN and
    pixels of ``avoid`` do not count.
    """
    clear = _clear(plane, avoid)
    if min(plane.shape) < 4 * _BLOCK:
        return _small(fill(plane, ~clear), clear)
    blocks, warned = quiet_blocks(plane, clear)
    if halves is not None:
        sigma_px = scales_in(plane, clear, blocks, 1)[0] / WHITE[0]
        apart = ((halves[0] - halves[1]) / 2).astype(np.float32)
        eff = scales_in(apart, clear & np.isfinite(apart), blocks, 4)[3] / WHITE[3]
        return Noise(sigma_px, eff, "half-stacks", len(blocks))
    scales = scales_in(plane, clear, blocks, 3)
    sigma = [s / w for s, w in zip(scales, WHITE, strict=False)]
    sigma_px = sigma[0]
    ratio = sigma[1] / sigma[0] if sigma[0] > 0 else 1.0
    excess = (sigma[2] / max(sigma[1], 1e-30)) / (1 + _EXCESS_SLOPE * (ratio - 1))
    nebulous = excess > _MOST_EXCESS or ratio**TO_LARGE > _MAX_RATIO
    if nebulous or len(blocks) < _MIN_BLOCKS or warned:
        return _from_fine(plane, clear, blocks, nebulous)
    return Noise(sigma_px, sigma_px * ratio**TO_LARGE, "power-law", len(blocks))


def _from_fine(plane: F32, clear: Mask, blocks: list[tuple[int, int]], nebulous: bool) -> Noise:
    """Noise where light stands on the third scale in the quietest blocks, too: the calmest of them
    tell by the two finest scales how smooth it is, without the light that the third shows there.
    """
    calmest = blocks[: max(_MIN_BLOCKS, len(blocks) // _CALMEST)]
    scales = scales_in(plane, clear, calmest, 3)
    first, second, third = (s / w for s, w in zip(scales, WHITE, strict=False))
    why = "nebula reaches everywhere" if nebulous else "hardly any quiet sky is left"
    if not (first > 0 and len(calmest) >= _MIN_BLOCKS):
        warning = f"Large-scale noise cannot be told from nebula ({why}): {_PIXEL_NOISE}"
        return Noise(first, None, None, len(blocks), (warning,))
    times = _ratio_without_light(first, second, third) ** TO_LARGE
    warning = f"Large-scale noise is told by the fine scales alone ({why})."
    return Noise(first, first * min(times, _MAX_RATIO), "kappa", len(blocks), (warning,))


def _ratio_without_light(first: float, second: float, third: float) -> float:
    """Second over first scale of the noise alone, from white noise of three scales of noise and
    light.
    """
    power = whole = (second / first) ** 2
    for _ in range(_ROUNDS):
        grown = 1 + _EXCESS_SLOPE * (np.sqrt(power) - 1)  # of the third over the second, of noise
        light = max((third / first) ** 2 - power * grown**2, 0.0)
        power = max(whole - _LIGHT_FALLS * light, _KEPT * whole, 1.0)
    return float(np.sqrt(power))


def quiet_scales(plane: F32, avoid: Mask | None = None) -> tuple[float, ...] | None:
    """Standard deviation of the four finest starlet scales on the quiet blocks of a plane (H, W);
    None where it is too small or has no quiet sky. NaN and pixels of ``avoid`` do not count.
    """
    clear = _clear(plane, avoid)
    if min(plane.shape) < 4 * _BLOCK:
        return None
    blocks, warned = quiet_blocks(plane, clear)
    return None if warned else tuple(scales_in(plane, clear, blocks, 4))


def _clear(plane: F32, avoid: Mask | None) -> Mask:
    seen = np.isfinite(plane)
    return seen if avoid is None else seen & ~avoid


def _small(whole: F32, clear: Mask) -> Noise:
    sigma = clipped_sigma(details(whole, 1)[0][clear]) / WHITE[0]
    return Noise(sigma, None, None, 0, ("The picture is too small to tell large-scale noise.",))


def quiet_blocks(
    plane: F32, clear: Mask, share: float = _QUIET_SHARE
) -> tuple[list[tuple[int, int]], bool]:
    """Corners (y, x) of the quietest ``share`` of 32-pixel blocks of a plane (H, W), the lowest by
    large-scale energy and level above the low plane first, and whether they are too few. Only
    pixels of ``clear`` count. Told by means over 8 x 8 pixels: what is sought is larger.
    """
    rows, columns = plane.shape[0] // _BLOCK, plane.shape[1] // _BLOCK
    if not rows or not columns:
        return [], True
    means, known = filled_means(plane, clear, _COARSER)
    surface = low_surface(means, known > _BLOCK_SEEN, cell=_BLOCK // _COARSER)
    coarse = details(means, 3)[2]  # the sixth scale of the plane itself

    seen = _blocked(known, _COARSER).mean(1) > _BLOCK_SEEN
    thin = _blocked(plane[: rows * _BLOCK : _THIN, : columns * _BLOCK : _THIN], _THIN)
    # a border that stacking left empty has no noise; NaN is none either
    seen &= np.fmax.reduce(thin, axis=1) > np.fmin.reduce(thin, axis=1)
    energy = np.sqrt((_blocked(coarse, _COARSER) ** 2).mean(1))
    level = np.median(_blocked(means - surface.rows(0, means.shape[0]), _COARSER), axis=1)
    scale = np.median(energy[seen]) if seen.any() else 1.0
    spread = np.median(np.abs(level[seen] - np.median(level[seen]))) if seen.any() else 1.0
    above = np.maximum(level - np.quantile(level, 0.05), 0)
    rank = energy / max(float(scale), 1e-30) + above / max(float(spread), 1e-30)
    rank[~seen] = np.inf
    wanted = max(_MIN_BLOCKS, round(share * rank.size))
    order = [int(i) for i in np.argsort(rank)[:wanted] if np.isfinite(rank[i])]
    return [(i // columns * _BLOCK, i % columns * _BLOCK) for i in order], len(order) < _MIN_BLOCKS


def _blocked(plane: F32, coarser: int) -> F32:
    """The pixels of each block (blocks, n) of a plane that is ``coarser`` than the picture."""
    side = _BLOCK // coarser
    rows, columns = plane.shape[0] // side, plane.shape[1] // side
    cut = plane[: rows * side, : columns * side].reshape(rows, side, columns, side)
    return cut.swapaxes(1, 2).reshape(rows * columns, side * side)


def scales_in(plane: F32, clear: Mask, blocks: list[tuple[int, int]], scales: int) -> list[float]:
    """Clipped standard deviation of the finest starlet ``scales`` of a plane (H, W) in blocks, or
    everywhere where there are none. Of many blocks every so many tell it: the scales are computed
    on them and their surroundings alone.
    """
    sheet = sheet_of(plane, clear, blocks, scales)
    return [_sigma_of(part[sheet.inside]) for part in details(sheet.plane, scales)]


@dataclass(frozen=True)
class Sheet:
    """Blocks of a plane with their surroundings, one below the other, without gaps; ``inside`` are
    the clear pixels of the blocks themselves.
    """

    plane: F32
    inside: Mask


def sheet_of(plane: F32, clear: Mask, blocks: list[tuple[int, int]], scales: int) -> Sheet:
    """So many blocks of a plane (H, W) as tell a sigma, with all that the finest starlet ``scales``
    reach, mirrored at its edge; all of it where there are none. Planes of one picture give sheets
    of one shape.
    """
    if not blocks:
        return Sheet(fill(plane, ~clear), clear)
    some = blocks[:: -(-len(blocks) // _ENOUGH)]
    margin = 2 * (2**scales - 1)
    step = np.arange(-margin, _BLOCK + margin)
    if len(some) * len(step) ** 2 > plane.size:  # they overlap so much that the whole is less
        inside = np.zeros(plane.shape, np.bool_)
        for y, x in some:
            inside[y : y + _BLOCK, x : x + _BLOCK] = True
        return Sheet(fill(plane, ~clear), inside & clear & np.isfinite(plane))
    values, seen = [], []
    for y, x in some:
        at = np.ix_(mirrored(y + step, plane.shape[0]), mirrored(x + step, plane.shape[1]))
        values.append(plane[at])
        seen.append(clear[at] & np.isfinite(values[-1]))
    use = np.concatenate(seen)
    inner = np.zeros((len(step), len(step)), np.bool_)
    inner[margin : margin + _BLOCK, margin : margin + _BLOCK] = True
    # a star's light would spill from its disc into the coarser scales
    filled = fill(np.concatenate(values), ~use)
    return Sheet(filled, use & np.tile(inner, (len(some), 1)))


def _sigma_of(values: F32) -> float:
    return clipped_sigma(values) if values.size else float("nan")


def sigma_in(detail: F32, blocks: list[tuple[int, int]], clear: Mask) -> float:
    """Clipped standard deviation of a plane (H, W) in blocks."""
    return _sigma_of(values_in(detail, blocks, clear))


def values_in(detail: F32, blocks: list[tuple[int, int]], clear: Mask) -> F32:
    """Clear values (n,) of a plane (H, W) in blocks; everywhere where there is no block."""
    if not blocks:
        return detail[clear]
    cuts = [(slice(y, y + _BLOCK), slice(x, x + _BLOCK)) for y, x in blocks]
    return np.concatenate([detail[cut][clear[cut]] for cut in cuts])

"""Noise of stacks of one channel from what they differ by: the light that they share cancels, so
that it is told on nebula, too (METHOD 2, null of two stacks). It is told on the second scale: a
frame holds far more of it than of large ones, a trail hardly reaches it, and what other optics
leave of the light is lost in the noise there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations
from typing import Final

import numpy as np
import scipy

from ..measure.noise import TO_LARGE, Sheet, quiet_blocks, sheet_of
from ..measure.profiles import F64
from ..measure.stars import star_mask
from ..model.measures import Noise
from ..model.planes import Picture
from ..numerics.bands import row_bands
from ..numerics.robust import clipped_sigma
from ..numerics.starlet import WHITE, details
from .scale import BIN, FluxScale, KnownStars

METHOD: Final = "pairs"
_SHARE: Final = 0.5  # of the blocks, the darker, on which stacks are compared
_SCALE: Final = 2
_BLOCKS: Final = 200  # that tell a noise to half a percent
_ROWS: Final = 512
_FEWEST: Final = 4000  # pixels that two stacks must see in common
_ERROR: Final = 0.02  # of a difference's noise, as a share
_TRUSTED: Final = {"half-stacks": 0.03, "null": 0.06, "power-law": 0.05, "kappa": 0.2}
"""Error, as a share, of what a stack alone tells of its second scale."""
_UNKNOWN: Final = 1.0
KEPT: Final = ("half-stacks", "null")  # what is told as well by the stack itself
_OWN: Final = 0.6
"""Noise from pixel to pixel of a difference over what both have: less, and they share subs."""


def told_by_pairs(
    pictures: Sequence[Picture],
    known: Sequence[KnownStars],
    scales: Sequence[FluxScale],
    reference: int,
    used: Sequence[int],
) -> list[KnownStars]:
    """What is known of stacks (H, W) on one grid, with the large-scale noise of each as their
    differences tell it: three or more tell it exactly, of two what each told alone says how the sum
    divides. Unchanged where there is too little sky in common, where stacks share their
    noise, and for those that are not ``used``.
    """
    base = pictures[reference]
    clear = ~star_mask(base.shape, known[reference].stars)
    for y0, y1 in row_bands(base.shape[0], _ROWS):
        clear[y0:y1] &= np.isfinite(base.data[y0:y1])
    blocks, few = quiet_blocks(base.data, clear, _SHARE)
    if few:
        return list(known)
    some = blocks[:: -(-len(blocks) // _BLOCKS)]
    sheets = {n: _sheet(pictures[n], known[n], scales[n], some) for n in used}
    found: dict[tuple[int, int], float] = {}
    fine = np.array([k.noise.sigma_px / s.scale for k, s in zip(known, scales, strict=True)])
    for a, b in combinations(used, 2):
        first, second = _apart(sheets[a], sheets[b])
        if first > _OWN * np.hypot(fine[a], fine[b]):
            found[a, b] = second
    if not found:
        return list(known)
    start = fine * np.array([(k.noise.best / k.noise.sigma_px) ** (1 / TO_LARGE) for k in known])
    trust = np.array([_TRUSTED.get(k.noise.method or "", _UNKNOWN) for k in known])
    told = _shared_out(found, start, trust)
    times = np.maximum(told / fine, 1.0) ** TO_LARGE
    met = {n for pair in found for n in pair if known[n].noise.method not in KEPT}
    return [
        _with_noise(one, one.noise.sigma_px * float(times[n])) if n in met else one
        for n, one in enumerate(known)
    ]


def _sheet(
    picture: Picture, known: KnownStars, scale: FluxScale, blocks: list[tuple[int, int]]
) -> Sheet:
    """The blocks of a stack at the reference's flux; only they are read."""
    found = sheet_of(picture.data, ~star_mask(picture.shape, known.stars), blocks, _SCALE)
    return replace(found, plane=found.plane / np.float32(scale.scale))


def _with_noise(known: KnownStars, sigma: float) -> KnownStars:
    noise: Noise = replace(known.noise, sigma_eff=sigma, method=METHOD, warnings=())
    return replace(known, noise=noise, bin_noise=sigma / BIN)


def _apart(one: Sheet, two: Sheet) -> tuple[float, float]:
    """Noise of the difference of two stacks on the finest scale and the second, over white
    noise; zeros where they see too little in common.
    """
    inside = one.inside & two.inside
    if inside.sum() < _FEWEST:
        return 0.0, 0.0
    first, second = (
        clipped_sigma(p[inside]) / w
        for p, w in zip(details(one.plane - two.plane, _SCALE), WHITE, strict=False)
    )
    return first, second


def _shared_out(found: dict[tuple[int, int], float], start: F64, trust: F64) -> F64:
    """Noise of each stack: that of pairs adds up in squares, and what each told alone counts by how
    far it is trusted.
    """
    pairs = list(found)
    seen = np.log([found[p] for p in pairs])

    def off(logs: F64) -> F64:
        power = np.exp(2 * logs)
        sums = np.array([0.5 * np.log(power[a] + power[b]) for a, b in pairs])
        return np.concatenate([(sums - seen) / _ERROR, (logs - np.log(start)) / trust])

    return np.asarray(np.exp(scipy.optimize.least_squares(off, np.log(start)).x), np.float64)

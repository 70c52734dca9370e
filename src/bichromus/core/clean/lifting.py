"""Clean lifting: a weak channel's noise found scale by scale, so that it can be taken off when the
channel is raised, without inventing light.

Every starlet scale of the channel is split into what it shares with a strong guide, where kinship
is proved, and a rest, of which the part that noise explains is removed (linear minimum mean square
error). What is removed is kept beside the channel and taken off by an amount.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..measure.noise import quiet_scales
from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask
from ..model.progress import SILENT, Progress
from ..model.recipe import Covariance, share_left
from ..numerics.smoothing import fill, gaussian
from ..numerics.starlet import WHITE, smooth
from .twin import SCALES, WINDOWS_PX, independent_values

_COARSENED: Final = (2, 2, 4, 4, 8, 8)
"""Window means vary slowly: they are computed on grids so much coarser."""
_HALF_FROM: Final = 3
"""Scales from this index on are worked on at half size."""
_PROOF: Final = 6.0  # t squared below which a kinship is chance
_EXCESS: Final = 1.12  # of the noise variance that a rest must exceed
_POWER: Final = (2, 2, 3, 3, 3, 3)
"""How hard the gain of each scale closes."""
_LOOK_PX: Final = (1.5, 2.0, 3.0)
"""Sigma of the second look's neighbourhood at the three finest scales."""
_LEAST_SHARE: Final = 0.25  # of a neighbourhood that must be free of stars to be judged by
_MEAN: Final = 3  # times 2^scale px over which the removed part keeps no mean
TOUCHED: Final = 1.5
"""Sigma of a star layer from which the pixel under it is not judged by."""
_QUIET: Final = 0.15
"""Share of a tile, its lowest part, in which the noise left is told."""
_CALM_PX: Final = 20.0  # over which light is averaged to find it
_BLOCK_PX: Final = 24.0
BLUR_PX: Final = 4.0
"""Blur after which noise is seen as blotches."""
_BAND_ROWS: Final = 1536
_OVERLAP: Final = 256  # rows beyond which a tile agrees with the whole to 0.002 sigma


@dataclass(frozen=True)
class Removed:
    """What can be taken off a channel: ``fine`` (H, W), its two finest scales, and ``coarse``, the
    others, at half size. ``pixel`` and ``blurred`` tell the noise that is left.
    """

    fine: F32
    coarse: F32
    pixel: Covariance
    blurred: Covariance

    def noise_left(self, fine: float, coarse: float) -> tuple[float, float]:
        """Noise left at these amounts, per pixel and after a 4 px blur, as shares of the channel's
        own.
        """
        return share_left(self.pixel, fine, coarse), share_left(self.blurred, fine, coarse)


def scale_noise(plane: F32, sigma_eff: float, avoid: Mask | None = None) -> tuple[float, ...]:
    """Standard deviation of the noise on each of six starlet scales of a starless plane (H, W): the
    first four from its quiet blocks, never more than white noise of ``sigma_eff`` has, which tells
    the last two. Raises NotEnoughData where no quiet sky is left.
    """
    found = quiet_scales(plane, avoid)
    if found is None:
        raise NotEnoughData(
            "The noise cannot be told scale by scale",
            why="hardly any quiet sky is left",
            do="Leave the channel as it is",
        )
    white = [w * sigma_eff for w in WHITE]
    return (*(min(f, w) for f, w in zip(found, white, strict=False)), *white[len(found) :])


def grown(mask: Mask) -> Mask:
    """A mask with its neighbours."""
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0)


def noise_correlation(plane: F32, guide: F32) -> float:
    """How far the noise of two planes of one sensor is the same, from their finest scale in the
    plane's lowest part: -1 to 1.
    """
    seen = np.isfinite(plane) & np.isfinite(guide)
    parts = [fill(p, ~np.isfinite(p)) for p in (plane, guide)]
    level = _mean(parts[0], _CALM_PX, 4)
    quiet = _wide((level <= np.quantile(level, _QUIET)).astype(np.float32), plane.shape) > 0.5
    fine = [(p - smooth(p, 0))[quiet & seen].astype(np.float64) for p in parts]
    spread = float(np.sqrt((fine[0] ** 2).sum() * (fine[1] ** 2).sum()))
    return float((fine[0] * fine[1]).sum()) / spread if spread > 0 else 0.0


def find_removed(
    plane: F32,
    sigmas: tuple[float, ...],
    guide: F32 | None = None,
    shared: tuple[float, ...] | None = None,
    avoid: Mask | None = None,
    progress: Progress = SILENT,
) -> Removed:
    """What can be taken off a starless, background-0 plane (H, W; NaN where unseen), with a
    ``guide`` of the same shape or none. ``sigmas`` are the noise of its scales, ``shared`` the
    covariance of that noise with the guide's on each scale (0 where they come from two sensors);
    ``avoid`` is where stars were split off: what they left there is no light to learn from.
    """
    counts = independent_values(sigmas)
    shared = shared or (0.0,) * SCALES
    height, width = plane.shape
    fine = np.zeros((height, width), np.float32)
    coarse = np.zeros(((height + 1) // 2, (width + 1) // 2), np.float32)
    sums = np.zeros((2, 3, 3))
    for top, y0, y1, bottom in _tiles(height):
        progress.step(y0 / height, "finding noise that can be taken off")
        part = None if guide is None else guide[top:bottom]
        stars = None if avoid is None else avoid[top:bottom]
        made = _Scales(plane[top:bottom], part, sigmas, shared, counts, stars)
        cut = slice(y0 - top, y1 - top)
        fine[y0:y1] = made.fine[cut]
        half = slice((y0 - top) // 2, (y1 - top + 1) // 2)
        coarse[y0 // 2 : y0 // 2 + half.stop - half.start] = made.coarse[half]
        sums += made.quiet_noise(plane[top:bottom])
    return Removed(fine, coarse, _covariance(sums[0]), _covariance(sums[1]))


def _covariance(sums: np.ndarray) -> Covariance:
    """In units of the channel's own noise."""
    own = max(float(sums[0, 0]), 1e-30)
    return (
        float(sums[1, 1] / own),
        float(sums[2, 2] / own),
        float(sums[0, 1] / own),
        float(sums[0, 2] / own),
        float(sums[1, 2] / own),
    )


def _tiles(height: int) -> Iterator[tuple[int, int, int, int]]:
    """Even rows: top of the tile with its overlap, first and last row of it, its bottom."""
    for y0 in range(0, height, _BAND_ROWS):
        y1 = min(y0 + _BAND_ROWS, height)
        yield max(y0 - _OVERLAP, 0), y0, y1, min(y1 + _OVERLAP, height)


class _Scales:
    """One tile, scale by scale."""

    def __init__(
        self,
        plane: F32,
        guide: F32 | None,
        sigmas: tuple[float, ...],
        shared: tuple[float, ...],
        counts: tuple[float, ...],
        avoid: Mask | None,
    ) -> None:
        self._shape = plane.shape
        self._sigmas, self._shared, self._counts = sigmas, shared, counts
        self._seen = (
            np.isfinite(plane) if guide is None else np.isfinite(plane) & np.isfinite(guide)
        )
        judged = self._seen if avoid is None else self._seen & ~avoid
        self._trusted = judged.astype(np.float32)
        self._trusted_half = _halved(self._trusted)
        x = fill(plane, ~np.isfinite(plane))
        g = None if guide is None else fill(guide, ~np.isfinite(guide))
        parts, guides = _scales(x), (_scales(g) if g is not None else [None] * SCALES)
        rests: list[F32] = []
        weights: list[F32] = []
        for j in range(SCALES):
            rest, gain = self._split(j, parts[j], guides[j])
            rests.append(rest)
            weights.append(gain)
        self._look_again(x, rests, weights)
        removed = [self._removed(j, rests[j], weights[j]) for j in range(SCALES)]
        self.fine = np.where(self._seen, removed[0] + removed[1], 0).astype(np.float32)
        small = np.sum(removed[_HALF_FROM:], axis=0) + _halved(removed[2])
        self.coarse = np.where(_halved(self._seen.astype(np.float32)) > 0, small, 0)

    def _split(self, j: int, x: F32, g: F32 | None) -> tuple[F32, F32]:
        """The rest of a scale beside what it shares with the guide, and its gain."""
        window = WINDOWS_PX[j] / (2 if j >= _HALF_FROM else 1)
        coarser = _COARSENED[j] // (2 if j >= _HALF_FROM else 1)
        sigma2 = self._sigmas[j] ** 2
        count, c = self._counts[j], self._shared[j]
        weight = self._trusted_half if j >= _HALF_FROM else self._trusted
        whole = np.maximum(_mean(weight, window, coarser), np.float32(1e-3))

        def mean(product: F32) -> np.ndarray:
            return _mean(product * weight, window, coarser) / whole

        xx: np.ndarray = mean(x * x)
        rest2, beta = xx, np.zeros_like(xx)
        if g is not None:
            gg, xg = mean(g * g), mean(x * g)
            own = xg - np.float32(c)
            t2 = count * own**2 / np.maximum(xx * gg - own**2, 1e-30)
            proof = np.maximum(0, 1 - _PROOF / np.maximum(t2, 1e-30))
            beta = own / np.maximum(gg, 1e-30) * proof
            rest2 = xx - 2 * beta * xg + beta**2 * gg
        wanted = rest2 - sigma2 * (_EXCESS + 2 * np.sqrt(2 / count)) + beta * c
        k = np.clip(wanted, 0, rest2) / np.maximum(rest2, 1e-30)
        gain = _wide(1 - _power(1 - k, _POWER[j]), x.shape)
        return (x if g is None else x - _wide(beta, x.shape) * g), gain

    def _look_again(self, x: F32, rests: list[F32], gains: list[F32]) -> None:
        """The finest scales judged once more, by what the first look has left around a pixel."""
        first = x - np.sum([(1 - gains[j]) * rests[j] for j in range(_HALF_FROM)], axis=0)
        small = np.sum([(1 - gains[j]) * rests[j] for j in range(_HALF_FROM, SCALES)], axis=0)
        first = (first - _wide(small, self._shape)).astype(np.float32)
        current = first
        for j, look in enumerate(_LOOK_PX):
            lower = smooth(current, j)
            share = gaussian(self._trusted, look)
            energy = gaussian((current - lower) ** 2 * self._trusted, look)
            energy /= np.maximum(share, np.float32(_LEAST_SHARE))
            sigma2 = np.float32(self._sigmas[j] ** 2)
            again = 1 - _power(sigma2 / (energy + sigma2), _POWER[j])
            gains[j] = np.where(share > _LEAST_SHARE, again, gains[j])
            current = lower

    def quiet_noise(self, plane: F32) -> np.ndarray:
        """Sums of products (2, 3, 3) of the plane, fine and coarse in the quiet part of the tile,
        per pixel and after a 4 px blur.
        """
        whole = fill(plane, ~np.isfinite(plane))
        level = _mean(whole, _CALM_PX, 4)
        quiet = _wide((level <= np.quantile(level, _QUIET)).astype(np.float32), self._shape) > 0.5
        quiet &= self._seen
        three = (whole, self.fine, _wide(self.coarse, self._shape))
        sums = np.zeros((2, 3, 3))
        for index, blur in enumerate((0.0, BLUR_PX)):
            rows = np.stack([noise_alone(p, blur)[quiet] for p in three]).astype(np.float64)
            sums[index] = rows @ rows.T
        return sums

    def _removed(self, j: int, rest: F32, gain: F32) -> F32:
        """What is taken off a scale, without a mean of its own: the light stays."""
        out = (1 - gain) * rest
        side = _MEAN * 2 ** (j + 1) * (2 if j >= _HALF_FROM else 1)
        limit = 2 * (min(out.shape) - 1) + 1
        side = min(side | 1, limit)
        mean = cv2.blur(out, (side, side), borderType=cv2.BORDER_REFLECT_101)
        return np.asarray(out - mean, np.float32)


def _power(base: F32, exponent: int) -> F32:
    return base * base if exponent == 2 else base * base * base


def noise_alone(plane: F32, blur: float) -> F32:
    """A plane without what is coarser than a block, after a blur: in a quiet part, its noise."""
    return gaussian(plane - _wide(_mean(plane, _BLOCK_PX, 8), plane.shape), blur)


def _scales(plane: F32) -> list[F32]:
    """Six starlet scales; from the fourth on at half size."""
    out: list[F32] = []
    current = plane
    for j in range(SCALES):
        if j == _HALF_FROM:
            current = _halved(current)
        lower = smooth(current, j if j < _HALF_FROM else j - 1)
        out.append(current - lower)
        current = lower
    return out


def _halved(plane: F32) -> F32:
    height, width = plane.shape
    if height % 2 or width % 2:
        plane = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    size = (plane.shape[1] // 2, plane.shape[0] // 2)
    return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.float32)


def _mean(plane: F32, window: float, coarser: int) -> F32:
    """Gaussian mean on a grid coarsened by ``coarser``."""
    if coarser > 1:
        size = (-(-plane.shape[1] // coarser), -(-plane.shape[0] // coarser))
        plane = np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.float32)
    return gaussian(plane, window / coarser)


def _wide(plane: F32, shape: tuple[int, ...]) -> F32:
    size = (shape[1], shape[0])
    return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_LINEAR), np.float32)

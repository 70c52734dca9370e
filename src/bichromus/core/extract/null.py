"""Noise of the planes of a colour stack whose debayering nobody told: from what a combination of
them shows where the light cancels.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import scipy
from numpy.typing import NDArray

from ..measure.noise import quiet_blocks, sheet_of
from ..measure.run import bright_mask
from ..measure.stars import find_stars
from ..model.measures import LargeScale
from ..model.planes import F32, Mask
from ..numerics.robust import clipped_sigma
from ..numerics.smoothing import fill, filled_means
from ..numerics.starlet import WHITE, band, details

F64 = NDArray[np.float64]

_POWER: Final = (1.05, 1.5)
"""Powers of sigma_2/sigma_1 that reach the large scale, in seven kinds of debayering: 1.20 to 1.41
(METHOD 2: study)."""
_USUAL: Final = 1.3
_FAR: Final = (0.85, 1.18)
"""By how much the combination may differ from what the fine scales tell, before it is doubted."""
_LIGHT: Final = 1.5  # times, from which what the combination shows is light
_SHARE: Final = 0.25  # of the blocks, the darkest, on which all is measured
_LOUD: Final = 5.0  # sigma of what tells how the light cancels
_FEWEST_LOUD: Final = 125  # points of the coarse grid
_HEARD: Final = 0.3  # weight of a plane in a combination from which its noise is heard there
_KIN_FROM, _KIN_FADES = 0.15, 0.44
"""Correlation that counts, and its share on the second scale, of debayering by gradients."""
_MOST_UNLIKE: Final = 1.6
"""Times that red is noisier than blue, at most: threads of nebula make its finest scale
rougher.
"""
_LIGHT_FALLS: Final = 0.0116
"""Power of light on the finest scale over the second, over white noise, of debayered planes."""
_SURE: Final = 0.9  # of the ratio that is seen, which stays whatever the light
_LEAST_KEPT: Final = 0.02  # of the power of a plane that is noise in any case
_BANDS: Final = (5, 6)  # starlet planes by which the combination is told
_COARSER, _COARSER_SCALES = 4, 2  # grid on which these are computed, and how many are finer
_KNOWN: Final = 0.5  # share of a point of that grid without stars, from which it counts


@dataclass(frozen=True)
class PlaneNoise:
    """Large-scale noise (3,) of red, green and blue, the way by which it was told, and warnings."""

    sigma: F64
    method: str
    warnings: tuple[str, ...] = ()


def plane_noise(stack: F32, matrix: F64 | None, avoid: Mask) -> PlaneNoise:
    """Noise of the planes of a stack (3, H, W), whose ``matrix`` (3, lines) says what they pass;
    None for broadband light. Stars (``avoid``) do not count.

    Whatever combination of the planes shows no light holds their noise alone, on nebula too: its
    large scale gives the one power by which the fine scales of each plane reach theirs (METHOD 2).
    Without one, and where it cannot be measured, the usual power is taken.
    """
    clear = ~avoid & np.isfinite(stack).all(axis=0)
    mean = np.asarray(np.mean(stack, axis=0, dtype=np.float32), np.float32)
    blocks, few = quiet_blocks(mean, clear, _SHARE)
    sheets = [sheet_of(p, clear, [] if few else blocks, 4) for p in stack]
    looks = [_look(s.plane, s.inside) for s in sheets]
    fine = np.array([look.sigma[:2] for look in looks])
    if not np.all(fine > 0):
        return PlaneNoise(np.zeros(3), "kappa")
    nulls = _nulls(matrix)
    if few or not len(nulls):
        ratio = fine[:, 1] / fine[:, 0]
        return PlaneNoise(fine[:, 0] * ratio**_USUAL, "kappa")
    coarse, known = _coarse(stack, clear)
    bright = _bright(coarse, fine[:, 1], matrix, known)
    loud = None if bright is None else coarse[:, bright].astype(float)
    if loud is not None:
        nulls = np.stack([_cancelled(n, loud, matrix) for n in nulls])
    inside = sheets[0].inside
    views = [_look(_combined(n, [s.plane for s in sheets]), inside) for n in nulls]
    seen = np.array([v.sigma for v in views])
    if bright is not None:
        mains = _mains(matrix)
        steps = _gradients([looks[n].large for n in mains])
        slopes = _gradients(coarse[mains])[:, bright].astype(float) / _COARSER
        for number, (null, view) in enumerate(zip(nulls, views, strict=True)):
            moved = _fitted(slopes, _combined(null, coarse)[bright].astype(float))
            large = view.large - _combined(moved, steps)
            seen[number, 3] = clipped_sigma(large[inside]) / WHITE[3]
    unlike = _unlike(fine)
    fine[:, 1] = _unheard(fine[:, 1], nulls, unlike)  # its light is not that of the others
    if not np.all(seen > 0):
        return PlaneNoise(fine[:, 0] * (fine[:, 1] / fine[:, 0]) ** _USUAL, "kappa")
    share = _shares(nulls, loud, matrix)
    found = _told(nulls, seen, _without_light(fine, nulls, seen, share, _kin(looks)))
    return replace(found, sigma=_unheard(found.sigma, nulls, unlike))


def noise_of_planes(stack: F32, saturation: float | None) -> list[LargeScale | None]:
    """Large-scale noise of red, green and blue of a broadband colour stack (3, H, W)."""
    plane = fill(stack[1], ~np.isfinite(stack[1]))
    avoid = bright_mask(plane, find_stars(plane, saturation), saturation)
    found = plane_noise(stack, None, avoid)
    return [LargeScale(float(s), found.method) if s > 0 else None for s in found.sigma]


def _gradients(planes: Sequence[F32] | F32) -> F32:
    """Slopes (2 n, H, W) of planes. Planes that lie a part of a pixel beside one another, as
    superpixels do, differ by what follows them.
    """
    return np.stack([g for plane in planes for g in np.gradient(plane)])


def _fitted(x: F64, y: F64) -> F64:
    """Least-squares shares of rows x (m, n) in y (n,)."""
    square = x @ x.T
    ridge = 1e-9 * np.trace(square) * np.eye(len(x))
    return np.asarray(np.linalg.solve(square + ridge, x @ y), np.float64)


@dataclass(frozen=True)
class _Look:
    """A plane's white noise (4,) on its finest starlet scales, the values (n,) of the finest where
    that was measured, and the largest of them on the whole sheet.
    """

    sigma: list[float]
    finest: F32
    large: F32


def _look(sheet: F32, inside: Mask) -> _Look:
    """A plane on the sheet of its blocks."""
    parts = details(sheet, 4)
    sigma = [clipped_sigma(p[inside]) / w for p, w in zip(parts, WHITE, strict=False)]
    return _Look(sigma, parts[0][inside], parts[3])


def _coarse(stack: F32, clear: Mask) -> tuple[F32, Mask]:
    """The planes' light of middle size (3, h, w), on a grid of means, and where it is known."""
    found = [filled_means(p, clear, _COARSER) for p in stack]
    first, last = (scale - _COARSER_SCALES for scale in _BANDS)
    return np.stack([band(means, first, last) for means, _ in found]), found[0][1] > _KNOWN


def _combined(shares: F64, planes: Sequence[F32] | F32) -> F32:
    return np.asarray(np.tensordot(shares.astype(np.float32), np.asarray(planes), 1), np.float32)


def _without_light(fine: F64, nulls: F64, seen: F64, share: F64, kin: F64) -> F64:
    """Fine scales (3, 2) of the planes' noise: light of which ``share`` (3,) falls into each is
    taken off, as much as makes the planes together as rough as their combinations, in which it
    does not show. ``kin`` (3, 3) is how their noise hangs together on the finest scale.
    """
    out = np.empty_like(fine)
    for scale, fade in enumerate((1.0, _KIN_FADES)):
        together = np.where(np.eye(3) > 0, 1.0, fade * kin)
        out[:, scale] = _rid(fine[:, scale] ** 2, nulls, seen[:, scale], share, together)
    return out


def _rid(power: F64, nulls: F64, seen: F64, share: F64, together: F64) -> F64:
    """Noise (3,) of planes of ``power`` (3,) without the light that makes them too rough."""

    def noise(light: float) -> F64:
        return np.sqrt(np.maximum(power - share * light, _LEAST_KEPT * power))

    def excess(light: float) -> float:
        sigma = noise(light)
        return float(
            sum(n @ (together * np.outer(sigma, sigma)) @ n for n in nulls) - (seen**2).sum()
        )

    most = float((power / np.maximum(share, 1e-12)).max())
    if excess(0.0) <= 0:
        return noise(0.0)
    return noise(most if excess(most) > 0 else float(scipy.optimize.brentq(excess, 0.0, most)))


def _kin(looks: list[_Look]) -> F64:
    """Correlation (3, 3) of the planes on the finest scale, which hardly holds any light: a
    debayering that borrows from other colours shows here.
    """
    found = np.corrcoef([look.finest for look in looks])
    return np.where(np.abs(found) > _KIN_FROM, found, 0.0)


def _shares(nulls: F64, loud: F64 | None, matrix: F64 | None) -> F64:
    """Power (3,) of the light that the planes of the combinations share, as the data show it."""
    power = (nulls**2).sum(axis=0)
    if loud is not None:
        heard = int(np.argmax(power))
        slopes = loud @ loud[heard] / (loud[heard] @ loud[heard])
        return np.where(_heard(nulls), slopes**2, 0.0)
    if matrix is None:
        return np.ones(3)
    return matrix[:, np.argmax((power[:, None] * matrix**2).sum(axis=0))] ** 2


def _heard(nulls: F64) -> NDArray[np.bool_]:
    """Which planes (3,) have a part in the combinations."""
    return np.asarray(np.abs(nulls).max(axis=0) >= _HEARD)


def _unheard(sigma: F64, nulls: F64, unlike: F64) -> F64:
    """Red from blue or blue from red, where one has no part in the combinations: sites as rare are
    spread by the same kernel, so that their noise stands in the same ratio on every scale.
    ``unlike`` (3,) is that ratio, of each over the other.
    """
    out, heard = sigma.copy(), _heard(nulls)
    for plane, other in ((0, 2), (2, 0)):
        if heard[other] and not heard[plane]:
            out[plane] = sigma[other] * unlike[plane]
    return out


def _unlike(fine: F64) -> F64:
    """How many times noisier red is than blue, and blue than red, by the finest of two scales
    (3, 2), of whose light the second tells: what it shows beyond the other plane's.
    """
    out = np.ones(3)
    for plane, other in ((0, 2), (2, 0)):
        seen = fine[plane, 0] / fine[other, 0]
        light = max(fine[plane, 1] ** 2 - (seen * fine[other, 1]) ** 2, 0.0)
        clean = np.sqrt(max(seen**2 - _LIGHT_FALLS * light / fine[other, 0] ** 2, 0.0))
        out[plane] = max(min(clean, _MOST_UNLIKE), _SURE * min(seen, _MOST_UNLIKE))
    return out


def _nulls(matrix: F64 | None) -> F64:
    """Combinations (m, 3) in which no line shows."""
    if matrix is None:
        return np.array([[-0.5, 1.0, -0.5]])
    if matrix.shape[1] >= 3:
        return np.zeros((0, 3))
    basis = np.linalg.svd(matrix.T)[2][matrix.shape[1] :]
    return basis / np.abs(basis).max(axis=1, keepdims=True)


def _mains(matrix: F64 | None) -> list[int]:
    """The planes by which the light in the others is told."""
    return [0, 2] if matrix is None else sorted({int(np.argmax(c)) for c in matrix.T})


def _bright(coarse: F32, sigma: F64, matrix: F64 | None, clear: Mask) -> Mask | None:
    """Where light stands out on coarse planes (3, H, W); None where there is hardly any."""
    mains = _mains(matrix)
    white = np.sqrt(sum(WHITE[j - 1] ** 2 for j in range(_BANDS[0], _BANDS[1] + 1)))
    bright = clear & (np.abs(coarse[mains]) > _LOUD * white * sigma[mains, None, None]).any(axis=0)
    return np.asarray(bright) if bright.sum() >= _FEWEST_LOUD else None


def _cancelled(null: F64, loud: F64, matrix: F64 | None) -> F64:
    """A combination corrected so that light cancels in the data: tables are 15 to 40 % off."""
    mains = _mains(matrix)
    out = null.copy()
    out[mains] -= _fitted(loud[mains], null @ loud)
    return np.asarray(out / np.abs(out).max())


def _told(nulls: F64, seen: F64, fine: F64) -> PlaneNoise:
    first, ratio = fine[:, 0], np.maximum(fine[:, 1] / np.maximum(fine[:, 0], 1e-30), 1.0)
    rare = [n for n in (0, 2) if _heard(nulls)[n]]
    if rare:  # green, which has more sites, is smoothed no more than they are
        ratio[1] = min(ratio[1], ratio[rare].min())
    weights = (nulls**2 / (seen[:, 3, None] ** 2)).sum(axis=0)

    def excess(power: float) -> float:
        return float(np.log((weights * (first * ratio**power) ** 2).sum() / len(nulls)))

    low, high = _POWER
    if excess(low) > 0:
        power = low
    elif excess(high) < 0:
        power = high
    else:
        power = float(scipy.optimize.brentq(excess, low, high))
    off = float(np.exp(-excess(power) / 2))
    warnings: tuple[str, ...] = ()
    if off > _LIGHT:
        warnings = (
            "What should cancel between the planes does not: the stack may hold another line than "
            "was said.",
        )
        return PlaneNoise(first * ratio**_USUAL, "kappa", warnings)
    if not _FAR[0] < off < _FAR[1]:
        warnings = (
            f"Together the planes show {off:.2f} times the noise that each tells on fine scales: "
            "the response may not be this camera's.",
        )
    return PlaneNoise(off * first * ratio**power, "null", warnings)

"""The rings that full stars leave where one plane is taken off another: their cores lost light,
and no two rigs draw the same wings and halos.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..measure.halos import Core, around, full_cores
from ..model.planes import F32, Picture
from ..numerics.poly import F64
from ..numerics.robust import step_sigma
from ..numerics.smoothing import fill

_WIDEST_PX: Final = 90
_WINGS: Final = 4.0  # star widths beyond the core that are looked at, at least
_HIDDEN: Final = 2.8  # star widths about a core in which its flank outshines all else
_FAR: Final = 6  # rings beyond, whose level is the ground
_STARLIGHT: Final = 1.0
"""Share of the light taken off at a radius that a ring may hold: what is more is nebula."""
_LOST: Final = 1.5  # noise of a pixel under which a star's light is lost
_SURE: Final = (
    8.0  # times what nebula is rough by, that starlight must be to be believed ring by ring
)
_ROUNDS: Final = 3
_ALIKE: Final = 0.12  # of the logarithm of the radius, within which a star's light is left alike
_UNEVEN: Final = 0.1  # of the starlight itself, that rings differ by
_FEWEST: Final = 4  # pixels of a ring that tell its level


def common_cores(pictures: Sequence[tuple[Picture, F32]], width: float) -> list[Core]:
    """Cores that are full in any of the pictures, each with its filled plane (H, W)."""
    out: list[Core] = []
    for picture, plane in pictures:
        for core in full_cores(plane, picture.header.saturation):
            if not any(np.hypot(core.x - o.x, core.y - o.y) < 2 * width + o.radius for o in out):
                out.append(core)
    return out


def take_rings_off(made: F32, light: F32, cores: Sequence[Core], width: float) -> None:
    """Take off what stands alike all around each core in a difference (H, W) of no gaps, and bridge
    the cores themselves, in place. ``light`` is the starlight that was taken off; ``width`` the
    stars' FWHM in px.
    """
    for core in cores:
        least = _WINGS * width + 3 * core.radius
        box, radius = around(made.shape, core, _WIDEST_PX)
        part, star = made[box], _profile(light[box], radius)
        reach = float(min(max(least, _lost_at(star, core, step_sigma(part))), _WIDEST_PX))
        near = radius <= reach
        ground = fill(part, near)
        left = _profile(part - ground, radius)
        rough = float(np.std(part[(radius > reach) & (radius <= reach + _FAR)]))
        share = _share(left, star, rough)
        sure = star**2 / (star**2 + (_SURE * rough) ** 2 + 1e-30)
        bright = np.maximum(star, 1e-30)
        at = _radii(radius, len(share))
        steep = np.exp(np.interp(radius, at, np.log(bright))) * (radius <= reach)
        made[box] -= (np.interp(radius, at, share) * steep).astype(np.float32)
        for _ in range(_ROUNDS):  # a ring is a pixel wide, in which a flank falls by half
            more = sure * _profile(made[box] - ground, radius) / bright
            more = np.clip(more, -_STARLIGHT, _STARLIGHT)
            made[box] -= (np.interp(radius, at, more) * steep).astype(np.float32)
        hidden = radius <= core.radius + _HIDDEN * width
        made[box] = fill(made[box], hidden)


def _radii(radius: F64, rings: int) -> F64:
    """Where the pixels of each ring lie in the mean: near the middle they are few."""
    ring = np.rint(radius).astype(int).ravel()
    count = np.bincount(ring, minlength=rings)[:rings]
    total = np.bincount(ring, radius.ravel(), minlength=rings)[:rings]
    return np.asarray(np.where(count > 0, total / np.maximum(count, 1), np.arange(rings)))


def _share(left: F64, star: F64, rough: float) -> F64:
    """Share of the star's light that is left at each ring, from -1 to 1: nebula as ``rough`` hides
    it where the star is faint, and there it goes on as it is further in.
    """
    at = np.log(np.arange(len(left)) + 1.0)
    near = np.exp(-0.5 * ((at[:, None] - at) / _ALIKE) ** 2)
    weight = star**2 / (rough**2 + (_UNEVEN * star) ** 2 + 1e-30)
    total = near @ weight
    seen = np.clip(left / np.where(np.abs(star) > 0, star, np.inf), -_STARLIGHT, _STARLIGHT)
    return np.asarray(near @ (weight * seen) / np.maximum(total, 1e-30), np.float64)


def _profile(part: F32, radius: NDArray[np.float64]) -> NDArray[np.float64]:
    """Medians of rings one pixel wide above those furthest out."""
    ring = np.rint(radius).astype(int)
    rings = min(part.shape) // 2
    order = np.argsort(ring, axis=None, kind="stable")
    values, at = part.ravel()[order], ring.ravel()[order]
    pieces = np.split(values, np.searchsorted(at, np.arange(1, rings)))[:rings]
    level = np.array([np.median(p) if p.size >= _FEWEST else np.nan for p in pieces])
    known = np.flatnonzero(np.isfinite(level))
    if not known.size:
        return np.zeros(max(rings, 1))
    level = np.interp(np.arange(len(level)), known, level[known])
    return np.asarray(level - np.median(level[-_FAR:]))


def _lost_at(star: F64, core: Core, noise: float) -> float:
    """Radius at which a core's light is lost in the noise of a pixel."""
    below = np.flatnonzero(star < _LOST * noise)
    below = below[below > core.radius]
    return float(below[0]) if below.size else float(_WIDEST_PX)

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
from ..numerics.smoothing import fill

_WIDEST_PX: Final = 90
_WINGS: Final = 4.0  # star widths beyond the core that are looked at, at least
_HIDDEN: Final = 2.0  # star widths about a core in which its flank outshines all else
_FAR: Final = 6  # rings beyond, whose level is the ground
_STARLIGHT: Final = 1.0
"""Share of the light taken off at a radius that a ring may hold: what is more is nebula."""
_GROUND: Final = 12  # rings furthest out, by which the noise of a ring is told
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
        reach = _WINGS * width + 3 * core.radius
        reach = min(max(reach, _lost_at(light, core)), _WIDEST_PX)
        box, radius = around(made.shape, core, int(reach) + _FAR + 1)
        left, star = _profile(made[box], radius), _profile(light[box], radius)
        most = _STARLIGHT * np.abs(star)
        off = np.clip(left, -most, most)
        made[box] -= np.interp(radius, np.arange(len(off)), off, right=0.0).astype(np.float32)
        hidden = radius <= core.radius + _HIDDEN * width
        made[box] = fill(made[box], hidden)


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


def _lost_at(light: F32, core: Core) -> float:
    """Radius at which a core's light is lost in what lies around."""
    box, radius = around(light.shape, core, _WIDEST_PX)
    level = _profile(light[box], radius)
    beyond = level[int(core.radius) + 1 :]
    if not beyond.size:
        return 0.0
    noise = float(np.median(np.abs(np.diff(level[-_GROUND:]))))
    below = np.flatnonzero(level < 3 * noise)
    below = below[below > core.radius]
    return float(below[0]) if below.size else float(_WIDEST_PX)

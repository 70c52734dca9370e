"""The wings of stars whose cores are full: no fit of what is left of them tells how far they reach,
their own light does, ring by ring.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..measure.profiles import F64, X, Y
from ..model.planes import F32, Mask
from ..numerics.robust import MAD_TO_SIGMA, MEDIAN_NOISE

_GROUND: Final = 5.0  # star widths beyond the light, from which the ground is told
_LOST: Final = 1.0  # sigma per pixel below which a ring's light is lost in the sky
_WRONG: Final = 0.25
"""Share of its light that the fitted wing of a full star may be wrong by: on simulated rigs that
are pooled .05 to .3 at three to five widths.
"""
_OTHERS: Final = 0.1  # of its light, that a pixel of the ring may hold of other stars
_FEWEST: Final = 6  # pixels that tell a ring
_LEAST_RINGS: Final = 4
_WIDEST_PX: Final = 60


def full_wing(
    rest: F32, light: F32, model: F32, sigma: F32, use: Mask, p: F64, full_px: float, width: float
) -> tuple[tuple[slice, slice], F32] | None:
    """What the rings about a full star ``p`` (7,) hold beside its own fitted ``light``: where, and
    how much, to be added to the model. ``rest`` is what that leaves, ``model`` the light of all
    stars without their halos, planes (H, W). None where the rings tell nothing.

    A ring is believed as far as the fitted wing may be wrong there, against how unevenly the ground
    lies: a knot of nebula under a faint wing stays.
    """
    box, away = _about(rest.shape, p, _WIDEST_PX)
    own, noise = light[box], float(np.median(sigma[box]))
    others = np.maximum(model[box] - own, 0)
    seen = use[box] & (others < np.maximum(np.float32(_OTHERS) * own, np.float32(noise)))
    ring = np.rint(away).astype(int)
    lost = _lost_at(own, ring, noise)
    furthest = min(int(lost + _GROUND * width), _WIDEST_PX)
    ground = seen & (ring > lost) & (ring <= furthest)
    if furthest - lost < _LEAST_RINGS or ground.sum() < _FEWEST * _LEAST_RINGS:
        return None
    level = rest[box] - _slope(rest[box], ground, p, box)
    rings = [level[seen & (ring == r)] for r in range(furthest + 1)]
    told = np.array([len(v) >= _FEWEST for v in rings])
    middle = np.array([float(np.median(v)) if t else 0.0 for v, t in zip(rings, told, strict=True)])
    uneven = MAD_TO_SIGMA * float(np.median(np.abs(middle[lost + 1 :][told[lost + 1 :]])))
    star = np.array([float(own[ring == r].mean()) if t else 0.0 for r, t in enumerate(told)])
    count = np.array([max(len(v), 1) for v in rings])
    variance = uneven**2 + (MEDIAN_NOISE * noise) ** 2 / count
    prior = np.square(_WRONG * star)
    believed = np.where(told & (np.arange(furthest + 1) > full_px), middle, 0.0)
    found = believed * prior / np.maximum(prior + variance, 1e-30)
    return box, np.interp(away, np.arange(furthest + 1), found, right=0.0).astype(np.float32)


def _about(
    shape: tuple[int, ...], p: F64, reach: int
) -> tuple[tuple[slice, slice], NDArray[np.float64]]:
    x, y = float(p[X]), float(p[Y])
    rows = slice(max(int(y) - reach, 0), min(int(y) + reach + 1, shape[0]))
    columns = slice(max(int(x) - reach, 0), min(int(x) + reach + 1, shape[1]))
    dx = np.arange(columns.start, columns.stop) - x
    dy = (np.arange(rows.start, rows.stop) - y)[:, None]
    return (rows, columns), np.hypot(dx, dy)


def _lost_at(own: F32, ring: NDArray[np.int64], noise: float) -> int:
    """The ring at which a star's light is lost in the noise of a pixel."""
    above = ring[own > np.float32(_LOST * noise)]
    return int(above.max()) if above.size else 0


def _slope(part: F32, ground: Mask, p: F64, box: tuple[slice, slice]) -> F64:
    """The plane through what lies around (h, w)."""
    rows, columns = (np.arange(s.start, s.stop, dtype=float) for s in box)
    u = np.broadcast_to((columns - p[X]) / _WIDEST_PX, part.shape)
    v = np.broadcast_to(((rows - p[Y]) / _WIDEST_PX)[:, None], part.shape)
    terms = np.stack([np.ones_like(u), u, v], axis=-1)
    found = np.linalg.lstsq(terms[ground], part[ground].astype(float), rcond=None)[0]
    return np.asarray(terms @ found, np.float64)

"""Frames of one rig laid on each other: a shift and a turn, also the half turn of a
meridian flip.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy
from numpy.typing import NDArray

from ..numerics.chance import tail_log10

F64 = NDArray[np.float64]
_MOST: Final = 60
_BIN: Final = 5.0
_SURE: Final = 6.0
_FEWEST: Final = 5  # stars in common


@dataclass(frozen=True)
class Rigid:
    """Source = turn(output) + shift, pixels; ``angle`` in radians. ``matched`` stars agree within
    ``residual`` px.
    """

    angle: float = 0.0
    dx: float = 0.0
    dy: float = 0.0
    matched: int = 0
    residual: float = 0.0

    def source(self, x: F64, y: F64) -> tuple[F64, F64]:
        """Where output positions lie in the source."""
        c, s = np.cos(self.angle), np.sin(self.angle)
        return c * x - s * y + self.dx, s * x + c * y + self.dy

    @property
    def flipped(self) -> bool:
        """Turned by more than a quarter."""
        return bool(np.cos(self.angle) < 0)


def match_rigid(
    output: tuple[F64, F64], source: tuple[F64, F64], reach_px: float = 400.0, turn_deg: float = 3.0
) -> Rigid | None:
    """The shift and turn that bring stars of two frames together; None when chance would do as
    well.

    Positions (N,) brightest first, of frames that show the same field. Turns up to ``turn_deg``
    either way are tried, about the middle of the stars, and the same after a half turn.
    """
    one, two = (np.stack(p)[:, :_MOST].astype(float) for p in (output, source))
    if min(one.shape[1], two.shape[1]) < _FEWEST:
        return None
    middles = np.mean([one.min(1), one.max(1)], 0), np.mean([two.min(1), two.max(1)], 0)
    best: tuple[int, float, F64] | None = None
    for base in (0.0, np.pi):
        for turn in np.deg2rad(np.arange(-turn_deg, turn_deg + 0.01, 0.25)):
            angle = base + turn
            turned = _turn(one - middles[0][:, None], angle)
            votes, shift = _vote(turned, two - middles[1][:, None], reach_px)
            if best is None or votes > best[0] + 1e-9:
                best = votes, angle, shift
    assert best is not None
    _, angle, shift = best
    start = middles[1] + shift - _turn(middles[0][:, None], angle)[:, 0]
    return _refine(one, two, Rigid(float(angle), float(start[0]), float(start[1])))


def _turn(points: F64, angle: float) -> F64:
    c, s = np.cos(angle), np.sin(angle)
    return np.stack([c * points[0] - s * points[1], s * points[0] + c * points[1]])


def _vote(one: F64, two: F64, reach: float) -> tuple[int, F64]:
    """How many pairs agree on one shift, and that shift."""
    dx, dy = ((b[None, :] - a[:, None]).ravel() for a, b in zip(one, two, strict=True))
    near = (np.abs(dx) < reach) & (np.abs(dy) < reach)
    if not near.any():
        return 0, np.zeros(2)
    side = int(2 * reach / _BIN)
    cells = ((dx[near] + reach) / _BIN).astype(int) * side + ((dy[near] + reach) / _BIN).astype(int)
    votes = np.bincount(cells, minlength=side * side).reshape(side, side)
    pair = votes[:-1, :-1] + votes[1:, :-1] + votes[:-1, 1:] + votes[1:, 1:]
    i, j = np.unravel_index(int(pair.argmax()), pair.shape)
    return int(pair[i, j]), np.array([(i + 1) * _BIN - reach, (j + 1) * _BIN - reach])


def _refine(one: F64, two: F64, first: Rigid) -> Rigid | None:
    """Least squares on stars that are each other's nearest, in ever smaller circles."""
    found, tree = first, scipy.spatial.cKDTree(two.T)
    tolerance = 8.0
    for tolerance in (8.0, 5.0, 3.0, 2.0, 1.5, 1.5):
        x, y = found.source(one[0], one[1])
        away, partner = (np.asarray(v) for v in tree.query(np.stack([x, y], 1)))
        good = away < tolerance
        order = np.argsort(away)
        _, kept = np.unique(partner[order], return_index=True)
        single = np.zeros(len(away), bool)
        single[order[kept]] = True
        good &= single
        if good.sum() < 4:
            return None
        found = _fit(one[:, good], two[:, partner[good]])
    size = np.ptp(two, 1)
    chance = min(two.shape[1] * np.pi * tolerance**2 / max(float(size[0] * size[1]), 1.0), 1.0)
    sure = tail_log10(found.matched - 3, one.shape[1], chance)
    return found if sure >= _SURE and found.matched >= _FEWEST else None


def _fit(one: F64, two: F64) -> Rigid:
    """The turn and shift of matched points (Kabsch 1976)."""
    a, b = one.mean(1, keepdims=True), two.mean(1, keepdims=True)
    p, q = one - a, two - b
    angle = float(np.arctan2((p[0] * q[1] - p[1] * q[0]).sum(), (p * q).sum()))
    shift = (b - _turn(a, angle))[:, 0]
    left = two - _turn(one, angle) - shift[:, None]
    return Rigid(
        angle,
        float(shift[0]),
        float(shift[1]),
        one.shape[1],
        float(np.sqrt((left**2).sum(0).mean())),
    )

"""How much of the light of one sub's stars is left in another: the same stars, compared."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ..numerics.robust import mad_sigma
from .subs import MATCH_PX, STARS, SubMeasure

_HARDLY_ANY: Final = 0.2  # of the reference's stars: with fewer, no light came through
_FAR_WIDER: Final = 1.4
"""Of a star's width: its peak is half of what it was."""
_FEWEST: Final = 5  # peaks that a shift is sought by
_FEWEST_RATIOS: Final = 4
_PEAKS: Final = (60, 200)  # brightest that vote: a trail makes many of its own
_SHIFTS: Final = 3  # with the most votes, that are looked at
_REACH_PX: Final = 250.0
_VOTES: Final = (3.0, 0.1)  # peaks that agree on a shift: at least, and as a share of the peaks
_AGREE_PX: Final = 6.0
_SPREAD: Final = 0.45
"""Most that ln of the ratios scatters: of the same stars by .05 to .3, of chance pairs by 1."""
_MOST_OF: Final = 0.5  # of a sub's peaks: no other shift brings more together
_SURE: Final = (2.0, 4.0)  # pairs more than chance brings: some, and times its spread

F64 = NDArray[np.float64]
Places = tuple[np.ndarray, np.ndarray]


def transparency(reference: SubMeasure, m: SubMeasure) -> float | None:
    """Median flux of the reference's stars in this sub over that in the reference; None when none
    is found again.

    Of all shifts that bring many peaks together counts the one with the most pairs whose light
    stands in one ratio: chance brings places together, not places and light.
    """
    if m is reference:
        return 1.0
    best = max(_found(reference, m), key=len, default=None)
    if best is not None:
        return float(np.exp(np.median(best[:STARS])))
    if m.stars >= _HARDLY_ANY * reference.stars or _far_wider(reference, m):
        return None
    return 0.0


def _far_wider(reference: SubMeasure, m: SubMeasure) -> bool:
    """Whether a sub's stars are so wide that the faint ones of the reference are lost in the
    noise, however clear the sky.
    """
    one, two = reference.fwhm_px, m.fwhm_px
    return one is not None and two is not None and two > _FAR_WIDER * one


def _found(reference: SubMeasure, m: SubMeasure) -> Iterator[F64]:
    """Ratios of pairs that chance does not explain, of shift after shift; no more where one brings
    most of the peaks together.
    """
    # a telescope that has crossed the meridian sees all upside down
    for x, y in (m.places, _half_turn(m.places)):
        for dx, dy in _shifts(reference.places, (x, y)):
            ratios = _ratios(reference, x - dx, y - dy, m.flux)
            if ratios is not None:
                yield ratios
                if len(ratios) > _MOST_OF * len(m.flux):
                    return


def _half_turn(places: Places) -> Places:
    """The same stars upside down, near where they were."""
    x, y = places
    return (x.min() + x.max() - x, y.min() + y.max() - y) if x.size else places


def _ratios(reference: SubMeasure, x: np.ndarray, y: np.ndarray, flux: np.ndarray) -> F64 | None:
    """ln of the flux of common stars over the reference's, the brightest first; None where chance
    explains them.
    """
    rx, ry = reference.places
    if not len(rx) or not len(x):
        return None
    two_places, one_places = np.stack([x, y], 1), np.stack([rx, ry], 1)
    here, there = scipy.spatial.cKDTree(two_places), scipy.spatial.cKDTree(one_places)
    away, near = (np.asarray(a) for a in here.query(one_places, distance_upper_bound=MATCH_PX))
    found = np.flatnonzero(np.isfinite(away))
    back = np.asarray(there.query(two_places[near[found]])[1])
    own = found[back == found]  # each the other's nearest
    one, two = reference.flux[own], flux[near[own]]
    with np.errstate(invalid="ignore"):
        good = (one > 0) & (two > 0)
    ratios = np.log(two[good] / one[good])
    chance = _by_chance(there, here)
    if len(ratios) < max(_FEWEST_RATIOS, _SURE[0] + chance + _SURE[1] * np.sqrt(chance)):
        return None
    return ratios if mad_sigma(ratios - np.median(ratios)) < _SPREAD else None


def _by_chance(one: scipy.spatial.cKDTree, two: scipy.spatial.cKDTree) -> float:
    """Pairs that two sets of peaks have when neither knows of the other."""
    low, high = np.maximum(one.mins, two.mins), np.minimum(one.maxes, two.maxes)
    area = float(np.prod(np.maximum(high - low, 1.0)))
    inside = [
        int(((t.data >= low) & (t.data <= high)).all(1).sum()) for t in (one, two)
    ]  # peaks where both look
    return inside[0] * inside[1] * np.pi * MATCH_PX**2 / area


def _shifts(one: Places, two: Places) -> Iterator[tuple[float, float]]:
    """Shifts that bring many of the brightest peaks together."""
    for most in _PEAKS:
        x1, y1, x2, y2 = (v[:most] for v in (*one, *two))
        if min(len(x1), len(x2)) < _FEWEST:
            return
        dx, dy = (x2[None, :] - x1[:, None]).ravel(), (y2[None, :] - y1[:, None]).ravel()
        near = (np.abs(dx) < _REACH_PX) & (np.abs(dy) < _REACH_PX)
        dx, dy = dx[near], dy[near]
        bins, reach = int(_REACH_PX / 2), [[-_REACH_PX, _REACH_PX]] * 2
        votes, ex, ey = np.histogram2d(dx, dy, bins=bins, range=reach)
        soft = cv2.blur(votes.astype(np.float32), (3, 3)) * 9
        for _ in range(_SHIFTS):
            i, j = np.unravel_index(int(np.argmax(soft)), soft.shape)
            if soft[i, j] < max(_VOTES[0], _VOTES[1] * min(len(x1), len(x2))):
                break
            cx, cy = (ex[i] + ex[i + 1]) / 2, (ey[j] + ey[j + 1]) / 2
            close = (np.abs(dx - cx) < _AGREE_PX) & (np.abs(dy - cy) < _AGREE_PX)
            yield float(np.median(dx[close])), float(np.median(dy[close]))
            soft[max(i - 2, 0) : i + 3, max(j - 2, 0) : j + 3] = 0

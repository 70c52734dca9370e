"""How much of the light of one sub's stars is left in another: the same stars, compared."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from .subs import MATCH_PX, STARS, SubMeasure

_HARDLY_ANY: Final = 0.2  # of the reference's stars: with fewer, no light came through
_FEWEST: Final = 5  # peaks that a shift is sought by
_FEWEST_RATIOS: Final = 4
_VOTES: Final = (4.0, 0.15)  # peaks that agree on a shift: at least, and as a share of the peaks
_AGREE_PX: Final = 6.0


def transparency(reference: SubMeasure, m: SubMeasure) -> float | None:
    """Median flux of the reference's stars in this sub over that in the reference; None when none
    is found again.
    """
    if m is reference:
        return 1.0
    lost = 0.0 if m.stars < _HARDLY_ANY * reference.stars else None
    for places in (
        m.places,
        _half_turn(m.places),
    ):  # a telescope that has crossed the meridian sees all upside down
        step = _offset(reference.places, places) or _offset(
            reference.places, places, 200
        )  # a trail makes many peaks
        if step is not None:
            found = _flux_ratio(reference, places[0] - step[0], places[1] - step[1], m.flux)
            if found is not None:
                return found
    return lost


def _half_turn(places: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """The same stars upside down, near where they were."""
    x, y = places
    return (x.min() + x.max() - x, y.min() + y.max() - y) if x.size else places


def _flux_ratio(
    reference: SubMeasure, x: np.ndarray, y: np.ndarray, flux: np.ndarray
) -> float | None:
    """Median of the flux of the brightest common stars over the reference's."""
    ratios = []
    for number, (xi, yi) in enumerate(zip(*reference.places, strict=True)):
        away = np.hypot(x - xi, y - yi)
        near = int(np.argmin(away))
        if (
            away[near] < MATCH_PX
            and np.isfinite(reference.flux[number] + flux[near])
            and reference.flux[number] > 0
        ):
            ratios.append(flux[near] / reference.flux[number])
            if len(ratios) == STARS:
                break
    return float(max(np.median(ratios), 0.0)) if len(ratios) >= _FEWEST_RATIOS else None


def _offset(
    one: tuple[np.ndarray, np.ndarray],
    two: tuple[np.ndarray, np.ndarray],
    most: int = 60,
    reach: float = 250.0,
) -> tuple[float, float] | None:
    """The shift that brings most of the brightest peaks together; None when chance does as well."""
    x1, y1, x2, y2 = (v[:most] for v in (*one, *two))
    if min(len(x1), len(x2)) < _FEWEST:
        return None
    dx, dy = (x2[None, :] - x1[:, None]).ravel(), (y2[None, :] - y1[:, None]).ravel()
    near = (np.abs(dx) < reach) & (np.abs(dy) < reach)
    dx, dy = dx[near], dy[near]
    if not dx.size:
        return None
    votes, ex, ey = np.histogram2d(dx, dy, bins=int(reach / 2), range=[[-reach, reach]] * 2)
    soft = cv2.blur(votes.astype(np.float32), (3, 3)) * 9
    i, j = np.unravel_index(int(np.argmax(soft)), soft.shape)
    if soft[i, j] < max(_VOTES[0], _VOTES[1] * min(len(x1), len(x2))):
        return None
    cx, cy = (ex[i] + ex[i + 1]) / 2, (ey[j] + ey[j + 1]) / 2
    close = (np.abs(dx - cx) < _AGREE_PX) & (np.abs(dy - cy) < _AGREE_PX)
    return float(np.median(dx[close])), float(np.median(dy[close]))

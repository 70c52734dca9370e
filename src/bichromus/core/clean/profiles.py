"""Stars as Moffat profiles beside one another: each fitted on what the others leave."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask

WINGS: Final = 0.05
"""A profile is drawn down to so many sigma."""
_REACH: Final = 90
_WIDTHS: Final = (0.88, 1.0, 1.14, 1.32, 1.6, 2.0)
_KNOT: Final = 1.7
_BRIGHT: Final = 60.0  # sigma; above, the width is free
_FULL: Final = 0.9  # of the top value: left out of the fit
_FEWEST_PIXELS: Final = 14
_FAINTEST: Final = 4.0  # sigma; below, nothing is drawn


@dataclass
class Star:
    """Place and amplitude of one star; ``full_px`` is the radius of its full core, 0 for none.
    Amplitude 0: no star.
    """

    x: float
    y: float
    amplitude: float
    width: float
    full_px: float = 0.0


@dataclass(frozen=True)
class Plate:
    """What the stars are fitted on: the plane, where it was seen, its noise, the stars' shape, and
    where it is full.
    """

    plane: F32
    seen: Mask
    sigma: float
    beta: float
    width: Callable[[float, float], float]
    top: float | None = None


def profile(dx: np.ndarray, dy: np.ndarray, width: float, beta: float) -> np.ndarray:
    """A Moffat profile of peak 1 (Moffat 1969)."""
    alpha2 = (width / 2) ** 2 / (2 ** (1 / beta) - 1)
    return np.asarray((1 + (dx * dx + dy * dy) / alpha2) ** -beta)


def fit_star(plate: Plate, model: F32, star: Star, first: bool) -> None:
    """Amplitude, place and (of bright stars) width of one star beside the model of all others; the
    model follows.
    """
    if star.amplitude > 0:
        add_star(model, star, -1.0, plate)
    own = plate.width(star.x, star.y)
    bright = star.full_px > 0 or star.amplitude > _BRIGHT * plate.sigma
    core = int(np.ceil((4 if bright else 2.2) * own + 1.5 * star.full_px))
    box = _box(star, core, plate.plane.shape)
    use = plate.seen[box].copy()
    if plate.top is not None:
        full = (plate.plane[box] > _FULL * plate.top).astype(np.uint8)
        use &= cv2.dilate(full, np.ones((3, 3), np.uint8)) == 0
    if use.sum() < _FEWEST_PIXELS:
        star.amplitude = 0.0
        return
    widths = [own * w for w in _WIDTHS] if bright else [own] if first else [own, own * _KNOT]
    rows, columns = np.nonzero(use)
    data = (plate.plane[box][rows, columns] - model[box][rows, columns]).astype(float)
    terms, star.width = _best(
        data,
        columns + (box[1].start - star.x),
        rows + (box[0].start - star.y),
        widths,
        core,
        plate.beta,
    )
    if star.width > (_KNOT - 0.01) * own and not star.full_px:
        star.amplitude = 0.0  # too soft for a star: a knot of the nebula
        return
    star.amplitude = max(float(terms[0]), 0.0)
    if star.amplitude <= _FAINTEST * plate.sigma:
        star.amplitude = 0.0
        return
    star.x += float(np.clip(terms[1] / star.amplitude, -0.6, 0.6))
    star.y += float(np.clip(terms[2] / star.amplitude, -0.6, 0.6))
    add_star(model, star, 1.0, plate)


def _best(
    data: np.ndarray, dx: np.ndarray, dy: np.ndarray, widths: list[float], core: int, beta: float
) -> tuple[np.ndarray, float]:
    """Least squares on [P, Px, Py, 1, x, y] for each width; the terms and the width that leave
    least.
    """
    best: tuple[float, np.ndarray, float] | None = None
    r2 = dx * dx + dy * dy
    matrix = np.empty((len(data), 6))
    matrix[:, 3], matrix[:, 4], matrix[:, 5] = 1.0, dx / core, dy / core
    power = float(data @ data)
    for width in widths:
        alpha2 = (width / 2) ** 2 / (2 ** (1 / beta) - 1)
        matrix[:, 0] = (1 + r2 / alpha2) ** -beta
        step = 2 * beta * matrix[:, 0] / (alpha2 + r2)
        matrix[:, 1], matrix[:, 2] = step * dx, step * dy
        right = matrix.T @ data
        normal = matrix.T @ matrix
        normal.flat[::7] *= 1 + 1e-9  # a star of one pixel leaves its slopes open
        terms = np.linalg.solve(normal, right)
        left = power - float(terms @ right)
        if best is None or left < best[0]:
            best = left, terms, width
    assert best is not None
    return best[1], best[2]


def add_star(model: F32, star: Star, sign: float, plate: Plate) -> None:
    """Draw a star into the model, or take it out again."""
    box = _box(star, reach_of(star, plate), model.shape)
    dx = np.arange(box[1].start, box[1].stop) - star.x
    dy = (np.arange(box[0].start, box[0].stop) - star.y)[:, None]
    model[box] += (sign * star.amplitude * profile(dx, dy, star.width, plate.beta)).astype(
        np.float32
    )


def reach_of(star: Star, plate: Plate) -> int:
    """How far a star is seen above the wings' limit, px."""
    alpha = star.width / 2 / np.sqrt(2 ** (1 / plate.beta) - 1)
    ratio = max(star.amplitude / (WINGS * plate.sigma), 1.01)
    return int(np.clip(alpha * np.sqrt(ratio ** (1 / plate.beta) - 1) + 1, 3, _REACH))


def _box(star: Star, reach: int, shape: tuple[int, ...]) -> tuple[slice, slice]:
    xi, yi = round(star.x), round(star.y)
    return (
        slice(max(yi - reach, 0), min(yi + reach + 1, shape[0])),
        slice(max(xi - reach, 0), min(xi + reach + 1, shape[1])),
    )

"""Stars sought on what a model of those already known leaves: where a star on a bending ground
stands out, fitted beside what is near, and judged by the shape that all stars share.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import scipy
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.bands import ordered_parallel
from .peaks import Noise, PeakSearch
from .profiles import AMPLITUDE, E2, F64, WIDTH, Shape, X, Y
from .stamps import Stamps
from .star_design import Beside, StarDesign, Step

_APART: Final = 0.8  # star widths at which a companion can be told
_NEAR: Final = 3.5  # star widths within which the brightest candidate counts as a neighbour
_STEPS: Final = 3
_HOPELESS: Final = 0.1  # of a candidate's light, that a first step has to explain
_BATCH: Final = 2048
_THREADS: Final = 2
_LEAST, _LOUDEST, _EIGHT = 4.0, 16.0, 8.0  # sigma of a fit (METHOD 6, *Judge*)
_EXPLAINS: Final = ((8.0, 16.0), (5.0, 10.0))
"""Weight of what a star does not explain, by sigma: of a faint one's light noise explains much."""
_THIN_ERROR: Final = 0.12
_SHAPE_ERROR: Final = 0.05  # of ln FWHM and ellipse, beside their noise
_LEARNT: Final = (30.0, 0.9, 0.4, 0.45)
"""Sigma, share explained, and most by which ln FWHM and ellipse of a star are off, that tells the
shape of the field.
"""
_FEWEST: Final = 8


@dataclass(frozen=True)
class Candidates:
    """Peaks that were fitted (N, 7), their sigma, the share of their light that a star explains,
    and by how much ln FWHM and ellipse are off, with errors (N, 3 each).
    """

    p: F64
    snr: F64
    explained: F64
    off: F64
    error: F64

    def usual(self) -> F64 | None:
        """By how much the shape of all stars is off; None where few tell it."""
        snr, explained, wide, long = _LEARNT
        tells = (self.snr > snr) & (self.explained > explained) & (np.abs(self.off[:, 0]) < wide)
        tells &= np.hypot(self.off[:, 1], self.off[:, 2]) < long
        return np.median(self.off[tells], axis=0) if tells.sum() >= _FEWEST else None

    def stars(self, usual: F64) -> Mask:
        """Which are stars: loud, explained by a star on a bending ground, no wider and no longer
        than ``usual``, (3,) or (N, 3) (METHOD 6, *Judge*).
        """
        away = self.off - usual
        wide = np.maximum(away[:, 0], 0) / (self.error[:, 0] + _SHAPE_ERROR)
        spread = np.hypot(self.error[:, 1], self.error[:, 2]) / np.sqrt(2)
        long = np.hypot(away[:, 1], away[:, 2]) / (spread + _SHAPE_ERROR)
        thin = np.maximum(-away[:, 0], 0) / (self.error[:, 0] + _THIN_ERROR)
        snr = np.clip(self.snr, _LEAST, _LOUDEST)
        loud = 4.7 * np.log(snr / _EIGHT)
        weight = np.interp(snr, *_EXPLAINS)
        score = 4.5 + loud - weight * (1 - self.explained) - 2 * (wide + thin) - 1.3 * long
        return np.asarray((score > 0.5) & (self.snr > _LEAST), np.bool_)


class Seeker:
    """Seeks stars of a shape."""

    def __init__(self, shape: Shape, noise: Noise):
        self.shape, self.noise = shape, noise
        self.design = StarDesign(shape)
        self.stamps = Stamps(shape)
        self.width = self.design.width

    def candidates(
        self, peaks: PeakSearch, model: F32, known: F64, near: F64 | None = None
    ) -> Candidates:
        """Peaks of what a ``model`` (H, W) of the stars ``known`` (N, 7) leaves, fitted; ``near``
        some stars only, where given.
        """
        plane = peaks.plane
        x, y, height = peaks.find(model if len(known) else None, self.width, near)
        if len(known) and len(x):
            away, _ = scipy.spatial.cKDTree(known[:, X : Y + 1]).query(np.stack([x, y], 1))
            new = away > _APART * self.width
            x, y, height = x[new], y[new], height[new]
        p = self.shape.stars(x, y, height)
        beside = self._brightest_near(p)
        step = self._fitted(plane, model, p, beside)
        keep = self._hopeful(self._judged(p, step, plane.shape), beside)
        p, beside = self._moved(p, step, plane.shape)[keep], _renumbered(beside, keep)
        for _ in range(_STEPS - 2):
            p = self._moved(p, self._fitted(plane, model, p, beside), plane.shape)
        step = self._fitted(plane, model, p, beside)
        return self._judged(self._moved(p, step, plane.shape), step, plane.shape)

    def _judged(self, p: F64, step: Step, extent: tuple[int, ...]) -> Candidates:
        """Stars (N, 7) with what their last step tells of them."""
        sigma = self.noise.at(p[:, X], p[:, Y], (extent[0], extent[1]))
        gained = step.without - (self.design.freedom + 6) * sigma**2
        lost = step.rest - self.design.freedom * sigma**2
        return Candidates(
            p,
            step.amplitude / (sigma * step.error[:, 0]),
            1 - np.maximum(lost, 0) / np.maximum(gained, 1e-30),
            step.off,
            step.error[:, 1:] * sigma[:, None],
        )

    def _hopeful(self, found: Candidates, beside: NDArray[np.int64]) -> NDArray[np.int64]:
        """Which candidates are worth another step, by number; with them what lies beside them. No
        star begins as the others do: in one of ten thousand a first step explains so little.
        """
        keep = (found.snr > _LEAST) & (found.explained > _HOPELESS)
        near = beside[keep]
        keep[near[near >= 0]] = True
        return np.flatnonzero(keep)

    def refitted(self, plane: F32, model: F32, p: F64) -> tuple[F64, F64]:
        """Stars (N, 7) of the ``model`` fitted again, each with all others taken off; and by how
        much the shape of the loud ones is off (3,), nothing where few tell it.
        """

        def run(part: slice) -> Step:
            return self.design.fit(plane, model, p[part], own=True)

        step = _joined(run, len(p))
        loud = step.amplitude > _LEARNT[0] * self.noise.middle * step.error[:, 0]
        if loud.sum() < _FEWEST:
            return self._moved(p, step, plane.shape), np.zeros(3)
        return self._moved(p, step, plane.shape), np.median(step.off[loud], axis=0)

    def _brightest_near(self, p: F64) -> NDArray[np.int64]:
        """Of each candidate the brightest one near it, by number; -1 for none. One only: of a
        thread that breaks up into many, the next goes on beside every piece and makes it long.
        """
        out = np.full(len(p), -1)
        if len(p) < 2:
            return out
        count = min(6, len(p))
        away, number = (
            np.asarray(a)
            for a in scipy.spatial.cKDTree(p[:, X : Y + 1]).query(p[:, X : Y + 1], count)
        )
        light = np.where(away[:, 1:] < _NEAR * self.width, p[number[:, 1:], AMPLITUDE], -1.0)
        best = light.argmax(1)
        found = number[np.arange(len(p)), best + 1]
        return np.where(light.max(1) > 0, found, -1)

    def _fitted(self, plane: F32, model: F32, p: F64, near: NDArray[np.int64]) -> Step:
        def run(part: slice) -> Step:
            return self.design.fit(plane, model, p[part], False, self._beside(p, part, near))

        return _joined(run, len(p))

    def _beside(self, p: F64, part: slice, near: NDArray[np.int64]) -> Beside | None:
        numbers = np.flatnonzero(near[part] >= 0)
        return Beside(numbers, p[near[part][numbers]]) if len(numbers) else None

    def _moved(self, p: F64, step: Step, extent: tuple[int, ...]) -> F64:
        """Stars after a step; one that tells no number stays where it is, without light."""
        out = p.copy()
        tells = np.isfinite(step.amplitude) & np.isfinite(step.x) & np.isfinite(step.y)
        out[:, AMPLITUDE] = np.where(tells, np.maximum(step.amplitude, 0.0), 0.0)
        for column, found, size in ((X, step.x, extent[1]), (Y, step.y, extent[0])):
            places = np.where(tells, found, p[:, column])
            near = np.clip(places, p[:, column] - 1, p[:, column] + 1)
            out[:, column] = np.clip(near, 0, size - 1)
        return out


def _renumbered(beside: NDArray[np.int64], keep: NDArray[np.int64]) -> NDArray[np.int64]:
    """Numbers of neighbours among those kept; -1 where a neighbour was not."""
    place = np.full(len(beside) + 1, -1)  # the last for none, which is numbered -1
    place[keep] = np.arange(len(keep))
    return np.asarray(place[beside[keep]], np.int64)


def reshaped(shape: Shape, p: F64, off: F64) -> tuple[Shape, F64]:
    """The shape and its stars (N, 7) with ln FWHM and ellipse changed by ``off`` (3,)."""
    quadratics = shape.quadratics.copy()
    quadratics[:, 0] += off
    out = p.copy()
    out[:, WIDTH : E2 + 1] += off
    return replace(shape, quadratics=quadratics), out


def _joined(run: Callable[[slice], Step], count: int) -> Step:
    parts = [slice(i, i + _BATCH) for i in range(0, max(count, 1), _BATCH)]
    steps = list(ordered_parallel(run, iter(parts), _THREADS if len(parts) > 1 else 1))
    return Step(
        *(
            np.concatenate([getattr(s, name) for s in steps])
            for name in ("amplitude", "x", "y", "off", "error", "rest", "without")
        )
    )

"""Stars fitted in one linear step: a profile with its slopes on a bending ground, many stars at
once, for each of some places within a pixel.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import Mask
from .profiles import AMPLITUDE, F64, Shape, moffat_slopes, pixels_about, quadratic
from .stamps import PHASES, phase_of

_DISC: Final = 1.8  # star widths that are fitted
_STEADY: Final = 1e-9
STAR: Final = 6  # terms of a star: amplitude, x, y, ln FWHM and its ellipse
_MOST_STEP_PX: Final = 0.5


@dataclass(frozen=True)
class Step:
    """What one step tells of N stars: amplitudes and places, by how much ln FWHM and ellipse are
    off the design's (N, 3), the errors of amplitude and of these per unit of noise (N, 4), and what
    a star on a ground and a ground alone leave (sums of squares).
    """

    amplitude: F64
    x: F64
    y: F64
    off: F64
    error: F64
    rest: F64
    without: F64


@dataclass(frozen=True)
class _Design:
    terms: F64
    solve: F64
    error: F64
    ground: F64


class StarDesign:
    """Least squares for stars of the middle of a field."""

    def __init__(self, shape: Shape):
        middle = np.array([[shape.extent[1] / 2.0, shape.extent[0] / 2.0]])
        self.star = shape.stars(middle[:, 0], middle[:, 1], np.ones(1))
        self.width = float(np.exp(self.star[0, 3]))
        reach = int(np.ceil(_DISC * self.width))
        dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
        inside = np.hypot(dx, dy) <= _DISC * self.width + 0.5
        self.dx, self.dy = dx[inside], dy[inside]
        self.freedom = len(self.dx) - STAR - 6
        ground = quadratic(self.dx / reach, self.dy / reach)
        half = PHASES // 2
        phases = [(i, j) for i in range(-half, half + 1) for j in range(-half, half + 1)]
        steps = np.array(phases, float) / PHASES
        at = self.dx - steps[:, :1], self.dy - steps[:, 1:]
        value, slopes = moffat_slopes(*at, np.repeat(self.star, len(phases), 0), shape.second)
        value = value + shape.left_at(*at)
        flat = ground @ np.linalg.pinv(ground)
        self._designs = {
            phase: _design(value[n], slopes[n], ground, flat) for n, phase in enumerate(phases)
        }

    def pixels(
        self, stars: F64, extent: tuple[int, ...]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], Mask]:
        """Columns and rows (N, P) about stars (N, 7), and which are on the plane."""
        return pixels_about(stars, self.dx, self.dy, extent)

    def own(self, stars: F64) -> F64:
        """Light (N, P) of stars of this shape at their own pixels."""
        _, phase, off = phase_of(stars)
        out = np.empty((len(stars), len(self.dx)))
        for (i, j), those in _by_phase(phase):
            light = stars[those, AMPLITUDE, None]
            weight = np.concatenate([light, light * off[those]], axis=1)
            out[those] = weight @ self._designs[i, j].terms[:, :3].T
        return out

    def step(self, stars: F64, data: F64) -> Step:
        """Fit values (N, P), from which all but the stars is taken off."""
        count = len(stars)
        middle, phase, _ = phase_of(stars)
        found, error = np.zeros((count, STAR)), np.zeros((count, 4))
        rest, without = np.zeros(count), np.zeros(count)
        for (i, j), those in _by_phase(phase):
            design, values = self._designs[i, j], data[those]
            terms = values @ design.solve.T
            found[those], error[those] = terms[:, :STAR], design.error
            rest[those] = ((values - terms @ design.terms.T) ** 2).sum(1)
            without[those] = ((values - values @ design.ground.T) ** 2).sum(1)
        light = np.maximum(found[:, :1], 1e-30)
        moved = np.clip(found[:, 1:3] / light, -_MOST_STEP_PX, _MOST_STEP_PX)
        place = middle + phase / PHASES + moved
        off = found[:, 3:STAR] / light
        error[:, 1:] /= light
        return Step(found[:, 0], place[:, 0], place[:, 1], off, error, rest, without)


def _by_phase(
    phase: NDArray[np.int64],
) -> Iterator[tuple[tuple[int, int], NDArray[np.int64]]]:
    """Each phase (i, j) that occurs, and the numbers of its stars."""
    code = (phase[:, 0] + PHASES) * (4 * PHASES) + phase[:, 1] + PHASES
    order = np.argsort(code, kind="stable")
    cuts = np.flatnonzero(np.diff(code[order])) + 1
    for part in np.split(order, cuts):
        if part.size:
            yield (int(phase[part[0], 0]), int(phase[part[0], 1])), part


def _design(value: F64, slopes: F64, ground: F64, flat: F64) -> _Design:
    terms = np.concatenate([value[:, None], slopes[:, : STAR - 1], ground], axis=1)
    normal = terms.T @ terms
    normal += _STEADY * np.trace(normal) / len(normal) * np.eye(len(normal))
    inverse = np.linalg.inv(normal)
    error = np.sqrt(np.diag(inverse))[[0, 3, 4, 5]]
    return _Design(terms, inverse @ terms.T, error, flat)

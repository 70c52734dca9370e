"""Lines on a broadband picture: the line alone, where it stands out, added in its own colours."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.planes import F32
from ..model.recipe import ChannelFigures, LiftFigures, Recipe
from ..numerics.smoothing import gaussian
from .inputs import lines_on_top
from .level import Levels

INTO: Final = {
    "Ha": {"R": 1.0, "B": 0.26},
    "S2": {"R": 1.0},
    "O3": {"G": 1.0, "B": 0.75},
    "Hb": {"G": 0.25, "B": 1.0},
}
"""Colours that a line is added to. With Ha goes the light of its Balmer sisters in the blue, 0.26
of it in photons (case B recombination, Osterbrock 1989); 501 nm lies where eyes see a green that
leans to blue.
"""
_SMOOTH_PX: Final = 1.5
_STANDS_OUT: Final = 9.0  # z squared at which a line counts half: 3 sigma
_K_ERROR: Final = 0.05  # of the continuum taken off, as a noise: stars differ in colour
_KNOTS: Final = 75.0  # percentile that says how bright a line's knots are
_SHOWN: Final = 0.5  # weight from which a pixel counts as a knot
_FEWEST: Final = 50  # pixels that tell it


def line_alone(line: F32, broad: F32, k: float) -> F32:
    """The line without the continuum in its filter, never below 0; any shape."""
    out = line - np.float32(k) * broad
    return np.maximum(out, np.float32(0), out=out)


def lift_plane(
    line: F32,
    broad: F32,
    k: float,
    figures: tuple[ChannelFigures, ChannelFigures],
    half_px: float = 2.0,
) -> F32:
    """Where a line stands out of its noise and of the error of its continuum: 0 to 1, from
    background-0 planes at 1/``half_px`` size. ``figures`` are those of line and broadband.
    """
    sigma = _SMOOTH_PX / half_px
    alone, calm = gaussian(line - np.float32(k) * broad, sigma), gaussian(broad, sigma)
    beam = 2 * np.sqrt(np.pi) * _SMOOTH_PX
    noise = (figures[0].sigma_large ** 2 + (k * figures[1].sigma_large) ** 2) / beam**2
    variance = np.float32(noise) + (np.float32(_K_ERROR * k) * calm) ** 2
    z2 = np.maximum(alone, np.float32(0)) ** 2 / variance
    return np.asarray(z2 / (z2 + np.float32(_STANDS_OUT)), np.float32)


def measure_lift(
    line: F32, broad: F32, told: LiftFigures, figures: tuple[ChannelFigures, ChannelFigures]
) -> LiftFigures:
    """How bright the line's knots are, from background-0 planes at half size; 0 where none stand
    out.
    """
    shown = lift_plane(line, broad, told.k, figures) > _SHOWN
    knots = 0.0
    if int(shown.sum()) >= _FEWEST:
        knots = float(np.percentile(line_alone(line[shown], broad[shown], told.k), _KNOTS))
    return told.model_copy(update={"knots": max(knots, 0.0)})


@dataclass(frozen=True)
class LineLift:
    """A line made ready: at weight 1 its knots add ``amount`` of the picture's own red to the
    colours that it goes into.
    """

    name: str
    broad: str
    k: float
    gain: float
    into: dict[str, float]

    def light(self, line: F32, broad: F32, weight: F32) -> F32:
        """What is added at share 1, in levelled units."""
        out = line_alone(line, broad, self.k)
        out *= weight
        out *= np.float32(self.gain)
        return out


def line_lifts(recipe: Recipe, levels: Levels) -> tuple[LineLift, ...]:
    """The lines on top of a recipe's mix. Their knots are as bright as the loudest part of the
    broadband picture that they lie on.
    """
    settings, made = recipe.settings.lift, []
    for name in lines_on_top(recipe):
        told = recipe.figures.lifts[name]
        loud = levels.gains.get(told.broad, 0.0) * recipe.channels[told.broad].signal
        made.append(
            LineLift(
                name,
                told.broad,
                told.k,
                settings.of(name) * loud / told.knots,
                INTO[name],
            )
        )
    return tuple(made)

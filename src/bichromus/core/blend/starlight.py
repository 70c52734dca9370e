"""Stars on the starless picture: a curve of their own, one colour each, put back as light."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.planes import F32
from ..model.recipe import Recipe, StarFigures
from ..model.settings import StarSettings
from ..numerics.oklab import decode, encode

_BRIGHT: Final = 0.68
"""Code at which the middle of a bright star lands; the brightest of the field lands at 1, so that a
star keeps a soft edge and is no white disc.
"""
_NOISES: Final = 3.0  # sigma of the star layers below which the curve is a straight line
_SMALLER: Final = 2.2
"""How steep the curve of the smallest stars is: at size 0 the faint skirt of a star is gone and its
core is left.
"""
_GATE: Final = 4.0  # square of the sigmas at which noise in a star layer counts half
_FAINTEST: Final = 2e-3  # code below which a star adds nothing that can be seen
_GREEN: Final = (0.95, 1.10)
"""Green of a star over the root of red times blue: no star is greener or more magenta than a black
body.
"""
_ROUNDS: Final = 60


@dataclass(frozen=True)
class Starlight:
    """A set of stars made ready: their curve is asinh(x / ``soft``) over that of ``top``."""

    settings: StarSettings
    soft: float
    top: float
    sigma: float

    def put(self, light: F32, planes: Sequence[F32]) -> None:
        """Put the stars of three planes (N,) on linear light (3, N), in place; what grows too
        bright keeps its hue.
        """
        at, stars = self.light(planes)
        if stars is None:
            return
        under = light[:, at]
        if self.settings.join == "add":
            joined = under + stars
        else:
            one, two = (encode(np.array(part, order="C")) for part in (under, stars))
            joined = decode(1 - (1 - one) * (1 - two))
        light[:, at] = joined / np.maximum(joined.max(0), np.float32(1))

    def light(self, planes: Sequence[F32]) -> tuple[np.ndarray, F32 | None]:
        """Linear light of three star planes (N,): the pixels (n,) that have any, and what they have
        (3, n); None where there are none.
        """
        brightest = np.maximum(np.maximum(planes[0], planes[1]), planes[2])
        at = np.flatnonzero(brightest > np.float32(self._least()))
        if not at.size:
            return at, None
        top = brightest[at]
        colour = np.maximum(np.stack([p[at] for p in planes]), np.float32(0))
        colour /= np.maximum(top, np.float32(1e-30))
        if self.sigma > 0:
            square = (top / np.float32(self.sigma)) ** 2
            top *= square / (square + np.float32(_GATE))
        return at, decode(self._code(top)[None]) * self._coloured(colour)

    def _code(self, top: F32) -> F32:
        """Code of a star's brightest colour, from 0 to 1."""
        x = np.arcsinh(top * np.float32(self.settings.brightness / self.soft))
        code = np.clip(x * np.float32(1 / np.arcsinh(self.top / self.soft)), 0, 1)
        if self.settings.size < 1.0:
            code **= np.float32(1 + _SMALLER * (1 - self.settings.size))
        return np.asarray(code, np.float32)

    def _coloured(self, colour: F32) -> F32:
        """Share of each colour in the brightest one, held and saturated."""
        if self.settings.limit > 0:
            between = np.sqrt(colour[0] * colour[2])
            held = np.clip(colour[1], _GREEN[0] * between, _GREEN[1] * between)
            colour[1] += np.float32(self.settings.limit) * (held - colour[1])
        if self.settings.saturation != 1.0:
            colour = np.maximum(colour, np.float32(1e-4)) ** np.float32(self.settings.saturation)
        return np.asarray(colour / np.maximum(colour.max(0), np.float32(1e-6)), np.float32)

    def _least(self) -> float:
        gamma = 1 + _SMALLER * (1 - self.settings.size)
        code = _FAINTEST ** (1 / gamma)
        bright = max(self.settings.brightness, 1e-3)
        return self.soft * float(np.sinh(code * np.arcsinh(self.top / self.soft))) / bright


def starlight(recipe: Recipe) -> Starlight | None:
    """The stars of a recipe; None where it has none to put back."""
    found = recipe.star_set()
    if found is None:
        return None
    return Starlight(recipe.settings.stars, softness(found), found.top, found.sigma)


def softness(figures: StarFigures) -> float:
    """Where the curve of a set bends, so that its bright stars land where they should; never within
    the noise.
    """
    low, high = np.log(max(_NOISES * figures.sigma, 1e-6 * figures.top)), np.log(figures.top)
    for _ in range(_ROUNDS):
        middle = (low + high) / 2
        soft = np.exp(middle)
        share = np.arcsinh(figures.level / soft) / np.arcsinh(figures.top / soft)
        low, high = (middle, high) if share > _BRIGHT else (low, middle)
    return float(np.exp(low))

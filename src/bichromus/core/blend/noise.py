"""What noise a blend will show, before it is rendered; and the balance that keeps it under the
limits.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from typing import Final

import numpy as np
import scipy

from ..model.planes import F32
from ..model.recipe import Recipe
from ..model.settings import Limits
from ..numerics.oklab import decode, to_oklab
from .engine import Blender
from .green import BACKGROUND_SHARE
from .inputs import BASE, GREEN, Key

_SAMPLES: Final = 8192
_BLUR_PX: Final = 4.0
_BALANCE_STEP: Final = 1e-3
AFTER_BLUR: Final = 1 / (2 * np.sqrt(np.pi) * _BLUR_PX)


@dataclass(frozen=True)
class PredictedNoise:
    """Background noise: sRGB code per output, Oklab lightness and chroma per pixel, chroma after a
    4 px blur.
    """

    outputs: dict[str, float]
    lightness: float
    chroma: float
    blotch: float

    def within(self, limits: Limits) -> bool:
        """Whether each figure is below its limit."""
        return (
            self.lightness <= limits.lightness
            and self.chroma <= limits.chroma
            and self.blotch <= limits.blotch
        )

    def tightest(self, limits: Limits) -> tuple[str, float, float]:
        """The limit that is fullest: its name, the noise, the limit."""
        pairs = (
            ("lightness", self.lightness, limits.lightness),
            ("colour", self.chroma, limits.chroma),
            ("blotches", self.blotch, limits.blotch),
        )
        return max(pairs, key=lambda p: p[1] / p[2])

    def fullness(self, limits: Limits) -> float:
        """The fullest limit's noise over that limit."""
        _, noise, limit = self.tightest(limits)
        return noise / limit


def predict_noise(recipe: Recipe, quieter: dict[str, float] | None = None) -> PredictedNoise:
    """Fixed Gaussian samples through the actual curve, mix and colour steps.

    ``quieter`` divides the noise of channels, to ask what cleaner data would give.
    """
    blender = Blender(recipe)
    factor = {n: 1 / (quieter or {}).get(n, 1.0) for n in blender.figures}
    fine = {n: recipe.noise(n)[0] * factor[n] for n in blender.figures}
    large = {n: recipe.noise(n)[1] * AFTER_BLUR * factor[n] for n in blender.figures}
    code = blender.render(_empty_sky(blender, fine))
    lab = to_oklab(decode(code))
    smooth = to_oklab(decode(blender.render(_empty_sky(blender, large))))
    return PredictedNoise(
        {o: float(code[i].std()) for i, o in enumerate("RGB")},
        float(lab[0].std()),
        float(np.hypot(lab[1].std(), lab[2].std())),
        float(np.hypot(smooth[1].std(), smooth[2].std())),
    )


def _empty_sky(blender: Blender, sigmas: dict[str, float]) -> dict[Key, F32]:
    """Planes of nothing but noise: no glow, no stars, no line that stands out."""
    samples = dict(zip(blender.figures, _gaussians(len(blender.figures)), strict=True))
    nothing = np.zeros(_SAMPLES, np.float32)
    planes: dict[Key, F32] = dict.fromkeys(blender.inputs, nothing)
    planes |= {Key("channel", n): samples[n] * np.float32(s) for n, s in sigmas.items()}
    for key in planes:
        if key == BASE:
            planes[key] = np.stack([np.full(_SAMPLES, blender.sky, np.float32), nothing, nothing])
        elif key.kind == "soft":
            planes[key] = np.full(_SAMPLES, blender.sky, np.float32)
    if GREEN in planes:
        planes[GREEN] = np.full(_SAMPLES, BACKGROUND_SHARE, np.float32)
    return planes


def at_balance(recipe: Recipe, balance: float) -> Recipe:
    """The same recipe at another balance."""
    return recipe.model_copy(
        update={"settings": recipe.settings.model_copy(update={"balance": balance})}
    )


def auto_balance(recipe: Recipe) -> float:
    """The smallest balance whose predicted noise stays under the limits; 1 when none does."""
    limits = recipe.settings.limits

    @cache
    def excess(balance: float) -> float:
        return predict_noise(at_balance(recipe, balance)).fullness(limits) - 1

    if excess(0.0) <= 0:
        return 0.0
    if excess(1.0) > 0:
        return 1.0
    found = float(scipy.optimize.brentq(excess, 0.0, 1.0, xtol=_BALANCE_STEP / 2))
    return min(1.0, round((math.floor(found / _BALANCE_STEP) + 1) * _BALANCE_STEP, 3))


@cache
def _gaussians(channels: int) -> F32:
    return np.random.default_rng(20270317).standard_normal((channels, _SAMPLES), dtype=np.float32)

"""A lightness of its own for the picture: measured, filtered, lifted by Ha, or made of all
channels.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..model.recipe import Recipe
from ..numerics.oklab import decode
from .level import equally_loud

_FLOOR: Final = 0.1
"""No channel's share of a synthetic luminance falls below this: a faint one keeps a say."""
_TRUSTED: Final = 9.0  # SNR squared of the light at which colour may follow the luminance half way
_DARKEST: Final = 1e-3


@dataclass(frozen=True)
class Luminance:
    """``weights`` of levelled channels that make the luminance; ``only_lifts``: it may brighten the
    picture, never darken it.
    """

    weights: dict[str, float]
    amount: float
    chroma: float
    only_lifts: bool


def luminance_of(recipe: Recipe) -> Luminance | None:
    """The luminance that a recipe asks for; None without one, or where its channel is silent."""
    settings = recipe.settings.luminance
    if settings.source == "none" or settings.amount <= 0:
        return None
    equal = equally_loud(recipe.channels, recipe.figures.white)
    if settings.source == "synthetic":
        weights = synthetic_weights(recipe, equal)
    else:
        gain = equal.get(settings.source, 0.0)
        weights = {settings.source: gain} if gain else {}
    if not weights:
        return None
    return Luminance(weights, settings.amount, settings.chroma, settings.source == "Ha")


def shares_of(recipe: Recipe) -> dict[str, float]:
    """What the lightness of the picture takes of each channel, to be shown: nothing where it is
    that of the mix.
    """
    settings, found = recipe.settings.luminance, luminance_of(recipe)
    if found is None:
        return {}
    if settings.source != "synthetic":
        return {settings.source: settings.amount}
    equal = equally_loud(recipe.channels, recipe.figures.white)
    return {n: settings.amount * w / equal[n] for n, w in found.weights.items()}


def synthetic_weights(recipe: Recipe, equal: Mapping[str, float]) -> dict[str, float]:
    """Weights that bring the mixed channels to one plane of the best SNR, its signal at 1: signal
    over variance in each channel's own units, no share below a tenth.
    """
    names = [n for n in recipe.settings.mixed() if equal.get(n)]
    shares = {n: (recipe.channels[n].signal / recipe.channels[n].sigma_large) ** 2 for n in names}
    total = sum(shares.values())
    if not total:
        return {}
    floored = {n: max(s / total, _FLOOR) for n, s in shares.items()}
    whole = sum(floored.values())
    return {n: floored[n] / whole * equal[n] for n in names}


def lightness_of_grey(code: F32, out: F32 | None = None) -> F32:
    """Oklab lightness of a grey of sRGB code (N,)."""
    light = decode(np.clip(code, 0, 1)[None], out)[0]
    np.maximum(light, np.float32(1e-12), out=light)
    cv2.log(light, light)
    light *= np.float32(1 / 3)
    cv2.exp(light, light)
    return light


def take_lightness(lab: F32, wanted: F32, settings: Luminance, glow: F32 | None) -> None:
    """Bring Oklab (3, N) to the wanted lightness by the amount, in place; colour follows where the
    light is trusted (``glow`` is its SNR).
    """
    now = lab[0]
    new = now + np.float32(settings.amount) * (wanted - now)
    if settings.only_lifts:
        np.maximum(new, now, out=new)
    ratio = np.maximum(new, np.float32(0)) / np.maximum(now, np.float32(_DARKEST))
    if settings.chroma != 1.0:
        ratio = ratio ** np.float32(settings.chroma)
    if glow is not None:
        square = glow * glow
        trust = square / (square + np.float32(_TRUSTED))
        ratio = np.where(ratio > 1, 1 + (ratio - 1) * trust, ratio)
    lab[1:] *= ratio
    lab[0] = new

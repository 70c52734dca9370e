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


def take_lightness(lab: F32, wanted: F32, settings: Luminance, glow: F32 | None) -> None:
    """Bring Oklab (3, N) to the wanted lightness by the amount, in place; colour follows where the
    light is trusted (``glow`` is its SNR).
    """
    now, new = lab[0], wanted
    if settings.amount != 1.0:
        new = cv2.addWeighted(now[None], 1 - settings.amount, new[None], settings.amount, 0)[0]
    if settings.only_lifts:
        new = np.maximum(new, now)
    np.maximum(now, np.float32(_DARKEST), out=now)
    ratio = np.maximum(new, np.float32(0))
    ratio /= now
    if settings.chroma != 1.0:
        ratio **= np.float32(settings.chroma)
    if glow is not None:
        ratio = _trusted(ratio, glow)
    lab[0] = new
    lab[1] *= ratio
    lab[2] *= ratio


def _trusted(ratio: F32, glow: F32) -> F32:
    """Colour is lifted only as far as the light is trusted; taken down it is everywhere."""
    square = glow * glow
    trust = square + np.float32(_TRUSTED)
    np.divide(square, trust, out=trust)
    lifted = np.maximum(ratio - np.float32(1), np.float32(0))
    lifted *= trust
    lifted += np.minimum(ratio, np.float32(1))
    return np.asarray(lifted, np.float32)

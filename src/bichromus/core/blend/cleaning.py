"""How far each channel's noise is taken off: just enough for the limits, or by a typed amount."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache
from typing import Final

import scipy

from ..model.recipe import Cleaned, CleanFigures, Recipe
from .inputs import channels_of
from .level import levels_at
from .noise import at_balance, predict_noise

_QUIETEST: Final = 1e-3  # of the noise: less is not asked for
_LOG_STEP: Final = 2e-3
"""How finely the largest noise is sought: a fifth of a percent."""
_STEPS: Final = 24
_NOTHING: Final = 0.01  # an amount below this is none


def cleaned_channels(recipe: Recipe, moving: Recipe | None = None) -> dict[str, Cleaned]:
    """The amounts of a recipe: for each channel that can be cleaned and needs it. While a control
    is ``moving`` a recipe they are kept, unless it is theirs.
    """
    settings = recipe.settings.cleaning
    able = {n: f for n, f in recipe.figures.cleaning.items() if n in channels_of(recipe)}
    if not able or (not settings.auto and settings.amount <= 0):
        return {}
    if moving is not None and _same_cleaning(recipe, moving):
        return {n: c for n, c in moving.cleaned.items() if n in able}
    automatic = _automatic(recipe, able)
    if settings.auto:
        return {n: c for n, c in automatic.items() if max(c.fine, c.coarse) > 0}
    return {n: _typed(able[n], settings.amount, automatic[n]) for n in able}


def _same_cleaning(one: Recipe, other: Recipe) -> bool:
    return (
        one.settings.cleaning == other.settings.cleaning
        and one.figures.cleaning == other.figures.cleaning
        and channels_of(one) == channels_of(other)
    )


def _typed(figures: CleanFigures, amount: float, automatic: Cleaned) -> Cleaned:
    """The fine part by the amount, the coarse one with it in the automatic ratio."""
    ratio = automatic.coarse / automatic.fine if automatic.fine > 0 else 1.0
    return cleaned_by(figures, amount, min(1.0, amount * ratio))


def cleaned_by(figures: CleanFigures, fine: float, coarse: float) -> Cleaned:
    """Amounts with the noise that they leave."""
    left = figures.left(fine, coarse)
    return Cleaned(fine=fine, coarse=coarse, left_px=left[0], left_4px=left[1])


def _automatic(recipe: Recipe, able: dict[str, CleanFigures]) -> dict[str, Cleaned]:
    """The least amounts at which channels as loud as each other stay under the limits."""
    bare = at_balance(recipe.model_copy(update={"cleaned": {}}), 0.0)
    noise = levels_at(bare).equal
    fine = {n: noise.get(n, 0.0) * recipe.channels[n].sigma_px for n in channels_of(recipe)}
    large = {n: noise.get(n, 0.0) * recipe.channels[n].sigma_large for n in fine}
    kappa = _largest(bare, fine, blotches=False)
    kappa4 = _largest(bare, large, blotches=True)
    return {
        n: _least(f, kappa / fine[n] if fine[n] else 1.0, kappa4 / large[n] if large[n] else 1.0)
        for n, f in able.items()
    }


def _largest(recipe: Recipe, noise: dict[str, float], blotches: bool) -> float:
    """The largest common noise of a level at which the limits hold."""
    limits = recipe.settings.limits

    @cache
    def excess(kappa_log: float) -> float:
        quieter = {n: max(1.0, s / math.exp(kappa_log)) for n, s in noise.items()}
        found = predict_noise(recipe, quieter)
        if blotches:
            return found.blotch / limits.blotch - 1
        return max(found.lightness / limits.lightness, found.chroma / limits.chroma) - 1

    high = max(noise.values(), default=0.0)
    if high <= 0 or excess(math.log(high)) <= 0:
        return high
    low = _QUIETEST * high
    if excess(math.log(low)) > 0:
        return low
    found = scipy.optimize.brentq(excess, math.log(low), math.log(high), xtol=_LOG_STEP)
    return math.exp(float(found) - _LOG_STEP)


def _least(figures: CleanFigures, px: float, blurred: float) -> Cleaned:
    """The smallest amounts that leave no more than these shares of a channel's noise."""
    coarse = _smallest(lambda a: figures.left(a, a)[1] <= blurred)
    fine = _smallest(lambda a: figures.left(a, coarse)[0] <= px)
    return cleaned_by(figures, fine, coarse)


def _smallest(holds: Callable[[float], bool]) -> float:
    if holds(0.0):
        return 0.0
    if not holds(1.0):
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_STEPS):
        middle = (low + high) / 2
        low, high = (low, middle) if holds(middle) else (middle, high)
    return round(high, 4) if high > _NOTHING else _NOTHING

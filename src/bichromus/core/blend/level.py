"""Level: how loud each channel enters the blend, and how far a weak one may be lifted.

Lines are levelled one by one. The broadband channels are light of one kind: they keep the ratios
that make white white, and are levelled together.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from ..model.channel import COLOURS
from ..model.recipe import ChannelFigures, Recipe, WhiteFigures


@dataclass(frozen=True)
class Levels:
    """``gains`` bring a channel's own units to the common level (its signal at 1, or less when
    capped).

    ``equal`` are the gains that make all equally loud; ``noise`` is gain times sigma_px, at level
    1.
    """

    gains: dict[str, float]
    equal: dict[str, float]
    noise: dict[str, float]
    kappa: float
    silent: tuple[str, ...] = ()

    def lift(self, name: str) -> float:
        """Gain of a channel relative to equally loud: 1 uncapped."""
        full = self.equal.get(name, 0.0)
        return self.gains[name] / full if full else 0.0


def level_channels(
    figures: Mapping[str, ChannelFigures],
    used: Iterable[str],
    balance: float,
    white: WhiteFigures | None = None,
    noise: Mapping[str, float] | None = None,
) -> Levels:
    """Gains at ``balance``: 0 makes every channel equally loud, 1 lets none bring more noise than
    the quietest.

    Between them the noise cap runs geometrically. The broadband group counts as one: ``white``
    holds its ratios, its loudest noise the cap. ``noise`` are channels' noises where they were
    cleaned. A channel without signal gets gain 0 and is named in ``silent``. Only ``used`` channels
    set the cap.
    """
    equal = equally_loud(figures, white)
    sigma = {n: f.sigma_px for n, f in figures.items()} | dict(noise or {})
    brought = {n: equal[n] * sigma[n] for n in figures if equal[n] > 0}
    used = [n for n in used if n in brought]
    group = [n for n in used if n in COLOURS]
    counted = [brought[n] for n in used if n not in group]
    if group:
        counted.append(max(brought[n] for n in group))
    counted = counted or list(brought.values()) or [1.0]
    kappa = max(counted) ** (1 - balance) * min(counted) ** balance
    shared = max((brought[n] for n in group or COLOURS if n in brought), default=0.0)
    gains = {}
    for name in figures:
        noisy = shared if name in COLOURS else equal[name] * sigma[name]
        gains[name] = equal[name] * min(1.0, kappa / noisy if noisy > 0 else 1.0)
    return Levels(
        gains,
        equal,
        {n: gains[n] * sigma[n] for n in figures},
        kappa,
        tuple(n for n in figures if equal[n] == 0),
    )


def levels_at(recipe: Recipe, balance: float | None = None) -> Levels:
    """The levels of a recipe, at its balance or another one."""
    settings = recipe.settings
    return level_channels(
        recipe.channels,
        settings.mixed(),
        settings.balance if balance is None else balance,
        recipe.figures.white,
        {n: recipe.noise(n)[0] for n in recipe.channels},
    )


def equally_loud(
    figures: Mapping[str, ChannelFigures], white: WhiteFigures | None = None
) -> dict[str, float]:
    """Gains that make every line, and the broadband group as a whole, equally loud; 0 without
    signal.
    """
    equal = {n: (1.0 / f.signal if f.signal > 0 else 0.0) for n, f in figures.items()}
    ratios = dict(zip(COLOURS, (white or WhiteFigures()).gains, strict=True))
    loud = [ratios[n] * figures[n].signal for n in COLOURS if n in figures and equal[n] > 0]
    if loud:
        common = 1.0 / float(np.median(loud))
        equal.update({n: common * ratios[n] for n in COLOURS if n in figures})
    return equal

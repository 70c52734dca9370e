"""Level: how loud each channel enters the blend, and how far a weak one may be lifted."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from ..model.recipe import ChannelFigures


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
    figures: Mapping[str, ChannelFigures], used: Iterable[str], balance: float
) -> Levels:
    """Gains at ``balance``: 0 makes every channel equally loud, 1 lets none bring more noise than
    the quietest.

    Between them the noise cap runs geometrically. A channel without signal gets gain 0 and is named
    in ``silent``. Only ``used`` channels set the cap.
    """
    equal = {n: (1.0 / f.signal if f.signal > 0 else 0.0) for n, f in figures.items()}
    brought = {n: equal[n] * figures[n].sigma_px for n in figures if equal[n] > 0}
    counted = [brought[n] for n in used if n in brought] or list(brought.values()) or [1.0]
    kappa = max(counted) ** (1 - balance) * min(counted) ** balance
    gains = {n: min(equal[n], kappa / f.sigma_px) for n, f in figures.items()}
    return Levels(
        gains,
        equal,
        {n: gains[n] * figures[n].sigma_px for n in figures},
        kappa,
        tuple(n for n in figures if equal[n] == 0),
    )

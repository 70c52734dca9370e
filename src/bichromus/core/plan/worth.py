"""How long a sub is worth most: read noise against what each sub costs beside its exposure and what
a spoilt one loses.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

from ..model.errors import InputError

LENGTHS_S: Final = (
    *(1, 2, 3, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 300, 420, 600, 900, 1200, 1800, 3600),
)
"""Round lengths that a person sets, seconds."""
LOST_PER_HOUR: Final = 0.5
"""Subs spoilt per hour of exposure by gusts and satellites, where a person says nothing else."""
SHORTEST_S: Final = 1.0
LONGEST_S: Final = 3600.0
_ENOUGH: Final = 0.97  # of the most that any length is worth
_HALVINGS: Final = 80


@dataclass(frozen=True)
class Worth:
    """What decides the length of a sub: light of target, sky and dark per pixel (e-/s), read noise
    (e-), what each costs beside its exposure (s), subs lost per hour of exposure, and the shortest
    and the longest that can be.
    """

    light_e_s: float
    read_noise_e: float
    overhead_s: float
    lost_per_hour: float = LOST_PER_HOUR
    least_s: float = SHORTEST_S
    most_s: float = LONGEST_S

    def __post_init__(self) -> None:
        if not 0 < self.least_s <= self.most_s:
            raise InputError(
                "No sub can be so long",
                why=f"the shortest is {self.least_s:g} s, the longest {self.most_s:g} s",
                do="Give a shortest above zero and not above the longest",
            )
        if min(self.light_e_s, self.read_noise_e, self.overhead_s, self.lost_per_hour) < 0:
            raise InputError(
                "The worth of a sub cannot be told",
                why="a figure is below zero",
                do="Give light, read noise, overhead and losses of zero or more",
            )

    def at(self, seconds: float) -> float:
        """What a clock hour in subs so long adds to SNR squared, in a unit of its own."""
        noise = self.light_e_s * seconds + self.read_noise_e**2 or 1.0
        kept = math.exp(-self.lost_per_hour * seconds / 3600)
        return kept * seconds**2 / (noise * (seconds + self.overhead_s))

    def best(self) -> float:
        """The length that is worth most, between the shortest and the longest."""
        if self._rises(self.most_s):
            return self.most_s
        low, high = self.least_s, self.most_s
        for _ in range(_HALVINGS):  # it rises, then it falls
            middle = (low + high) / 2
            low, high = (middle, high) if self._rises(middle) else (low, middle)
        return low

    def share(self, seconds: float) -> float:
        """Worth of a length over the most that any has."""
        return self.at(seconds) / self.at(self.best())

    def advised(self) -> float:
        """The shortest round length that is worth 97 % of the best."""
        top = self.at(self.best())
        between = (float(t) for t in LENGTHS_S if self.least_s < t < self.most_s)
        lengths = (self.least_s, *between, self.most_s)
        return next((t for t in lengths if self.at(t) >= _ENOUGH * top), self.best())

    def _rises(self, seconds: float) -> bool:
        """Whether a longer sub is worth more."""
        noise = self.light_e_s * seconds + self.read_noise_e**2
        by_noise = self.light_e_s / noise if noise > 0 else 0.0
        slope = 2 / seconds - by_noise - 1 / (seconds + self.overhead_s)
        return slope > self.lost_per_hour / 3600

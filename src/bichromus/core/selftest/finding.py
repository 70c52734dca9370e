"""A demand and what was found."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Finding:
    """``what`` was tried on ``data``; ``figure`` is to be at most ``limit``, or at least where
    ``least``.
    """

    what: str
    data: str
    figure: float
    limit: float
    unit: str = ""
    least: bool = False

    @property
    def held(self) -> bool:
        """Whether the demand is met; a figure that could not be told is none."""
        return self.figure >= self.limit if self.least else self.figure <= self.limit

    @property
    def figure_text(self) -> str:
        """The figure with its unit."""
        return f"{self.figure:.3g} {self.unit}".strip()

    @property
    def limit_text(self) -> str:
        """What is demanded."""
        words = "at least" if self.least else "at most"
        return f"{words} {self.limit:g} {self.unit}".strip()

    @property
    def margin(self) -> float:
        """The figure over its limit, the other way round where the figure is to be large: above 1
        it is missed.
        """
        return self.limit / max(self.figure, 1e-9) if self.least else self.figure / self.limit


def worst_of_each(findings: Iterable[Finding]) -> list[Finding]:
    """Of everything that was tried on several data the finding that is nearest to being missed."""
    worst: dict[str, Finding] = {}
    for found in findings:
        known = worst.get(found.what)
        if known is None or not found.margin <= known.margin:
            worst[found.what] = found
    return list(worst.values())

"""What a mapping is: a named way from channels to red, green and blue. Every one is a matrix."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from ...model.settings import BlendSettings

Mix = dict[str, dict[str, float]]
"""Weights by output (R, G, B) and channel."""


@dataclass(frozen=True)
class Mapping:
    """A mapping of the sheet: what it is called, what it says in one line, the channels it needs,
    and the mix that it makes of the settings and the channels that are there.

    ``order`` is its place in the sheet; ``controls`` names the settings that change it, beside
    those that every mapping has; ``lifts`` are lines that it lays on top of the mix, of which it
    needs one.
    """

    id: str
    title: str
    words: str
    needs: tuple[str, ...]
    mix: Callable[[BlendSettings, Collection[str]], Mix]
    order: int = 100
    controls: tuple[str, ...] = ()
    lifts: tuple[str, ...] = ()

    def missing(self, channels: Collection[str]) -> str:
        """What it needs and is not there, in words; empty where it can be made."""
        lacking = [n for n in self.needs if n not in channels]
        if lacking:
            return " and ".join(lacking)
        if self.lifts and not set(self.lifts) & set(channels):
            return " or ".join(self.lifts)
        return ""

"""What a mapping is: a named way from channels to red, green and blue. Every one is a matrix."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from ...model.recipe import BlendSettings

Mix = dict[str, dict[str, float]]
"""Weights by output (R, G, B) and channel."""


@dataclass(frozen=True)
class Mapping:
    """A mapping of the sheet: what it is called, what it says in one line, the channels it needs,
    and the mix that it makes of the settings and the channels that are there.

    ``order`` is its place in the sheet; ``controls`` names the fields of the settings that change
    its mix, beside those that every mapping has.
    """

    id: str
    title: str
    words: str
    needs: tuple[str, ...]
    mix: Callable[[BlendSettings, Collection[str]], Mix]
    order: int = 100
    controls: tuple[str, ...] = ()

"""Mappings of the sheet that are plain formulas."""

from __future__ import annotations

from functools import partial

from .base import Mapping
from .formula import formula_mix


def _preset(formula: str, title: str, words: str, needs: tuple[str, ...], order: int) -> Mapping:
    return Mapping(formula, title, words, needs, partial(formula_mix, formula), order)


MAPPING = (
    _preset("R=Ha,G=S2,B=O3", "Ha red, H-S-O", "Ha red, S2 green, O3 blue", ("Ha", "S2", "O3"), 50),
    _preset(
        "R=O3,G=S2,B=Ha", "Ha blue, O-S-H", "O3 red, S2 green, Ha blue", ("O3", "S2", "Ha"), 60
    ),
)

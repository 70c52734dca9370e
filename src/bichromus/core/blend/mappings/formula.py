"""Free mappings, written as a formula: ``R=S2,G=0.8*Ha+0.2*O3,B=O3``."""

from __future__ import annotations

import re
from collections.abc import Collection

from ...model.channel import channel_name
from ...model.errors import UnknownName
from ...model.settings import MOST_WEIGHT, OUTPUTS, BlendSettings
from .base import Mix


def formula_mix(formula: str, _settings: BlendSettings, channels: Collection[str]) -> Mix:
    """The mix of a formula. Raises UnknownName."""
    return parse_mapping(formula, channels)


def parse_mapping(text: str, channels: Collection[str]) -> Mix:
    """A free mapping, ``R=S2,G=0.8*Ha+0.2*O3,B=O3``. Raises UnknownName."""
    mix: Mix = {}
    for part in text.split(","):
        target, _, terms = part.partition("=")
        output = target.strip().upper()
        if output not in OUTPUTS or output in mix or not terms.strip():
            raise UnknownName(
                f"The mapping {text!r} is not clear at {part.strip()!r}",
                do="Write it as R=S2,G=0.8*Ha+0.2*O3,B=O3, each output once",
            )
        mix[output] = _terms(terms, text, channels)
    if set(mix) != set(OUTPUTS):
        raise UnknownName(
            f"The mapping {text!r} does not say what R, G and B take",
            do="Write it as R=S2,G=0.8*Ha+0.2*O3,B=O3",
        )
    return mix


def _terms(terms: str, text: str, channels: Collection[str]) -> dict[str, float]:
    row: dict[str, float] = {}
    for sign, term in re.findall(r"([+-]?)([^+-]+)", terms.replace(" ", "")):
        match = re.fullmatch(r"(?:(\d*\.?\d+)\*)?([A-Za-z]\w*)", term)
        if not match:
            raise UnknownName(
                f"The mapping {text!r} is not clear at {term!r}", do="Write a term as 0.8*Ha"
            )
        name = channel_name(match[2])
        if name not in channels:
            raise UnknownName(
                f"The mapping {text!r} takes {name}, which is not there",
                do=f"Use {', '.join(channels) or 'a channel that was given'}",
            )
        weight = float(match[1] or 1) * (-1 if sign == "-" else 1)
        if abs(weight) > MOST_WEIGHT:
            raise UnknownName(
                f"The mapping {text!r} takes {weight:g} of {name}",
                do=f"Stay between {-MOST_WEIGHT:g} and {MOST_WEIGHT:g}",
            )
        row[name] = row.get(name, 0.0) + weight
    return row

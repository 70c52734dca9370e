"""A broadband picture with its emission lines on top, in their own colours."""

from __future__ import annotations

from collections.abc import Collection

from ...model.channel import COLOURS
from ...model.settings import BlendSettings
from .base import Mapping, Mix


def _mix(_settings: BlendSettings, _channels: Collection[str]) -> Mix:
    return {c: {c: 1.0} for c in COLOURS}


MAPPING = Mapping(
    "ha-rgb",
    "Ha on RGB",
    "red, green and blue, with the lines on top",
    COLOURS,
    _mix,
    order=65,
    controls=("lift",),
    lifts=("Ha", "S2", "O3", "Hb"),
)

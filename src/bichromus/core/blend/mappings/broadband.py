"""Red, green and blue as they are."""

from __future__ import annotations

from collections.abc import Collection

from ...model.channel import COLOURS
from ...model.settings import BlendSettings
from .base import Mapping, Mix


def _mix(_settings: BlendSettings, _channels: Collection[str]) -> Mix:
    return {c: {c: 1.0} for c in COLOURS}


MAPPING = Mapping(
    "rgb", "Broadband, R-G-B", "red, green and blue as they are", COLOURS, _mix, order=70
)

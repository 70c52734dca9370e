"""Ha red, O3 green and blue."""

from __future__ import annotations

from collections.abc import Collection

from ...model.settings import BlendSettings
from .base import Mapping, Mix


def _mix(_settings: BlendSettings, _channels: Collection[str]) -> Mix:
    return {"R": {"Ha": 1.0}, "G": {"O3": 1.0}, "B": {"O3": 1.0}}


MAPPING = Mapping(
    "bicolour", "Bicolour, H-O-O", "Ha red, O3 green and blue", ("Ha", "O3"), _mix, order=20
)

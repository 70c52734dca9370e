"""S2 red, Ha green, O3 blue."""

from __future__ import annotations

from collections.abc import Collection

from ...model.settings import BlendSettings
from .base import Mapping, Mix


def _mix(_settings: BlendSettings, _channels: Collection[str]) -> Mix:
    return {"R": {"S2": 1.0}, "G": {"Ha": 1.0}, "B": {"O3": 1.0}}


MAPPING = Mapping(
    "hubble-order",
    "Hubble palette, S-H-O",
    "S2 red, Ha green, O3 blue",
    ("S2", "Ha", "O3"),
    _mix,
    order=10,
)

"""Ha red, O3 blue, and a green that both share: plain assignment would lose the detail of Ha."""

from __future__ import annotations

from collections.abc import Collection

from ...model.settings import BlendSettings
from .base import Mapping, Mix


def _mix(settings: BlendSettings, _channels: Collection[str]) -> Mix:
    share = settings.green_share
    return {"R": {"Ha": 1.0}, "G": {"O3": share, "Ha": round(1 - share, 6)}, "B": {"O3": 1.0}}


MAPPING = Mapping(
    "bicolour-shared",
    "Bicolour, shared green",
    "Ha red, O3 blue, green from both",
    ("Ha", "O3"),
    _mix,
    order=30,
    controls=("green_share",),
)

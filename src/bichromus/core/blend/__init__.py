"""Level, balance, stretch, mix, colour: strictly per pixel, one engine for preview, tile and
export.
"""

from typing import TYPE_CHECKING

from ..model.lazy import lazily

if TYPE_CHECKING:
    from .engine import Blender
    from .level import Levels, level_channels
    from .mappings import MAPPINGS, Mapping, available_mappings, mapping_mix, parse_mapping
    from .noise import PredictedNoise, auto_balance, predict_noise

__all__ = [
    "MAPPINGS",
    "Blender",
    "Levels",
    "Mapping",
    "PredictedNoise",
    "auto_balance",
    "available_mappings",
    "level_channels",
    "mapping_mix",
    "parse_mapping",
    "predict_noise",
]

_MAPPINGS = ("MAPPINGS", "Mapping", "available_mappings", "mapping_mix", "parse_mapping")
__getattr__ = lazily(
    __name__,
    {
        "Blender": ".engine",
        **dict.fromkeys(("Levels", "level_channels"), ".level"),
        **dict.fromkeys(_MAPPINGS, ".mappings"),
        **dict.fromkeys(("PredictedNoise", "auto_balance", "predict_noise"), ".noise"),
    },
)

"""Level, balance, stretch, mix, colour: strictly per pixel, one engine for preview, tile and
export.
"""

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

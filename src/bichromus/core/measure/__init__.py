"""Background, noise, signal and stars of planes."""

from .noise import measure_noise
from .run import FirstLook, first_look, measure_channels, measure_plane
from .stars import find_stars, star_mask

__all__ = [
    "FirstLook",
    "find_stars",
    "first_look",
    "measure_channels",
    "measure_noise",
    "measure_plane",
    "star_mask",
]

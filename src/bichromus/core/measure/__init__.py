"""Background, noise, signal and stars of planes."""

from typing import TYPE_CHECKING

from ..model.lazy import lazily

if TYPE_CHECKING:
    from .noise import measure_noise
    from .run import StarsAndNoise, measure_channels, measure_plane, stars_and_noise
    from .stars import find_stars, followed_stars, star_mask, stars_within

__all__ = [
    "StarsAndNoise",
    "find_stars",
    "followed_stars",
    "measure_channels",
    "measure_noise",
    "measure_plane",
    "star_mask",
    "stars_and_noise",
    "stars_within",
]

_RUN = ("StarsAndNoise", "measure_channels", "measure_plane", "stars_and_noise")
__getattr__ = lazily(
    __name__,
    {
        "measure_noise": ".noise",
        **dict.fromkeys(_RUN, ".run"),
        **dict.fromkeys(("find_stars", "followed_stars", "star_mask", "stars_within"), ".stars"),
    },
)

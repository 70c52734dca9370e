"""The green of a bicolour picture, shared between Ha and O3 by how loud each is around a pixel."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.planes import F32
from ..model.recipe import ChannelFigures
from ..numerics.smoothing import gaussian

BACKGROUND_SHARE: Final = 0.6
"""O3's share of green where there is no light at all."""
_BLUR_PX: Final = 12.0
"""A share that moved faster would show as blotches of the noise."""
_BOUNDS: Final = (0.2, 0.8)  # both lines keep a say everywhere
_NOISES: Final = 2.0  # sigma of the blurred maps from which loudness counts
_LIGHT: Final = 0.25  # levelled light from which a pixel tells the share of the whole


def green_plane(
    o3: F32, ha: F32, figures: tuple[ChannelFigures, ChannelFigures], scale_px: float
) -> F32:
    """O3's share of green, 0.2 to 0.8, from background-0 planes of 1/``scale_px`` size:
    w = (u_O^2 + .6 e) / (u_O^2 + u_H^2 + e) with u the equally loud maps blurred by 12 px and e
    their noise.
    """
    squares, noise = [], 0.0
    for plane, f in zip((o3, ha), figures, strict=True):
        gain = 1.0 / f.signal if f.signal > 0 else 0.0
        calm = gaussian(plane, _BLUR_PX / scale_px) * np.float32(gain)
        squares.append(np.maximum(calm, np.float32(0)) ** 2)
        noise += (_NOISES * gain * f.sigma_large / (2 * np.sqrt(np.pi) * _BLUR_PX)) ** 2
    e = np.float32(max(noise, 1e-12))
    share = (squares[0] + np.float32(BACKGROUND_SHARE) * e) / (squares[0] + squares[1] + e)
    return np.clip(share, np.float32(_BOUNDS[0]), np.float32(_BOUNDS[1]))


def middle_share(share: F32, o3: F32, ha: F32, signals: tuple[float, float]) -> float:
    """The median share over what shines, to be told as one number."""
    bright = (o3 > _LIGHT * signals[0]) | (ha > _LIGHT * signals[1])
    if not bright.any():
        return BACKGROUND_SHARE
    return float(np.median(share[bright]))

"""The part of a picture that is written: all of it, or one of a given ratio around its subject."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.errors import InputError
from ..model.planes import F32
from ..numerics.placement import Box
from ..numerics.smoothing import gaussian

Ratio = tuple[int, int]
FULL: Final = "full"
SQUARE: Final = "square"
_SMOOTH: Final = 0.02
"""Of the longer side: stars are no subject."""
_LOUDEST: Final = 95.0
"""Percentile above which light counts no more: a bright core does not outweigh the rest."""
_EQUAL: Final = 0.005
"""Share of the subject's light that a place nearer to the middle may cost."""
_MOST: Final = 20


def ratio_of(text: str) -> Ratio | None:
    """Width and height of ``full`` (None), ``square`` or ``W:H``. Raises InputError."""
    if text == FULL:
        return None
    if text == SQUARE:
        return 1, 1
    try:
        wide, tall = (int(p) for p in text.split(":"))
    except ValueError:
        wide = tall = 0
    if wide < 1 or tall < 1 or max(wide / tall, tall / wide) > _MOST:
        raise InputError(
            f"The shape {text!r} is not clear", do="Write full, square or W:H, as in 3:2"
        )
    return wide, tall


def box_of(lightness: F32, shape: tuple[int, int], ratio: Ratio | None) -> Box:
    """The largest part of a picture of ``shape`` (H, W) that has a ratio, where it holds most of
    the subject; ``lightness`` (h, w) is the picture made small.
    """
    height, width = shape
    if ratio is None:
        return 0, 0, width, height
    wide, tall = ratio
    if width * tall > height * wide:
        size = max(round(height * wide / tall), 1)
        x0 = _best(_subject(lightness).sum(0), width, size)
        return x0, 0, x0 + size, height
    size = max(round(width * tall / wide), 1)
    y0 = _best(_subject(lightness).sum(1), height, size)
    return 0, y0, width, y0 + size


def _subject(lightness: F32) -> F32:
    """How much of the subject each pixel holds: light above the sky."""
    smooth = gaussian(lightness, max(_SMOOTH * max(lightness.shape), 0.5))
    above = np.maximum(smooth - np.median(smooth), 0)
    return np.minimum(above, np.percentile(above, _LOUDEST))


def _best(profile: F32, length: int, size: int) -> int:
    """Where a window of ``size`` of ``length`` pixels holds most of a profile, near the middle."""
    starts = np.arange(length - size + 1)
    at = np.linspace(0, length, len(profile) + 1)
    summed = np.concatenate([[0.0], np.cumsum(profile, dtype=np.float64)])
    held = np.interp(starts + size, at, summed) - np.interp(starts, at, summed)
    good = starts[held >= held.max() - _EQUAL * max(summed[-1], 1e-12)]
    return int(good[np.argmin(np.abs(good - (length - size) / 2))])

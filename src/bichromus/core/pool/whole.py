"""What belongs together is left out as a whole: of a trail or a ghost also the wings, which alone
would not be told from noise.
"""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask

REACH: Final = 9
"""Pixels that a rejection grows at most."""
_CORE: Final = 8.0  # sigma of what has wings
_SMALLEST: Final = 5  # connected pixels: less is a hot pixel or a cosmic ray
_WING: Final = 2.0  # sigma of a mean of 3 x 3 pixels that still belongs to it
_ALWAYS: Final = 2  # px about a core that go in any case
_LEFT: Final = 2  # values that stay at every pixel


def grown(values: F32, mean: F32, gone: Mask, sigma: F32) -> Mask:
    """Rejections (N, H, W) of values (N, H, W) with the wings of what is large: ``mean`` (H, W) is
    the picture without them, ``sigma`` (N, H, W) or broadcastable the noise of a value. Where only
    two values would be left, nothing more goes.
    """
    out = gone
    for n in np.flatnonzero(gone.any((1, 2))):
        wider = _wider(values[n], mean, gone[n], np.broadcast_to(sigma[n], mean.shape))
        if wider is not None:
            if out is gone:
                out = gone.copy()
            out[n] |= wider
    if out is gone:
        return gone
    few = (np.isfinite(values) & ~out).sum(0) < _LEFT
    out[:, few] = gone[:, few]
    return out


def _wider(value: F32, mean: F32, gone: Mask, sigma: F32) -> Mask | None:
    z = np.nan_to_num((value - mean) / sigma).astype(np.float32)
    core = (gone & (z > _CORE)).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(core, connectivity=8)
    large = np.flatnonzero(stats[1:count, cv2.CC_STAT_AREA] >= _SMALLEST) + 1
    if not len(large):
        return None
    whole = np.isin(labels, large).astype(np.uint8)
    near = cv2.dilate(whole, _disc(REACH)) > 0
    wing = near & (cv2.blur(z, (3, 3)) * 3 > _WING)
    found, parts = cv2.connectedComponents((wing | (whole > 0)).astype(np.uint8), connectivity=8)
    touching = np.zeros(found, np.bool_)
    touching[parts[whole > 0]] = True
    touching[0] = False
    return np.asarray(touching[parts] | (cv2.dilate(whole, _disc(_ALWAYS)) > 0), np.bool_)


def _disc(radius: int) -> np.ndarray:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))

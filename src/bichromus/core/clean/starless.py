"""What lies under the stars: the noise that their light brought is shrunk to that of the sky, so
that no hole is left that would have to be filled.
"""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..measure.profiles import AMPLITUDE, F64, X, Y
from ..model.planes import F32, Mask
from ..numerics.robust import weighted_median
from ..numerics.smoothing import fill, gaussian
from ..numerics.starlet import details
from .star_peaks import StarFilter

DRAWN: Final = 0.05
"""A profile is drawn down to so many sigma; where none reaches nothing is touched."""
_MODEL_ERROR: Final = 0.02  # of its light, that a model is wrong by
_MEAN: Final = 0.5  # star widths over which the ground is averaged
_AROUND, _FAR, _BEND = 1.5, 5.0, 10.0
"""Where a loud star's model is surer to be wrong than the ground is to bend by so many sigma, the
ground is that of so many star widths about.
"""
_MEAN_FULL: Final = 1.0  # the same under full cores
_TEXTURE_MASKED: Final = 0.02  # share of stars in the patch that the noise's texture is taken from
_JUDGED: Final = 30.0  # sigma of a star that the quality is told by


def starless_plane(
    plane: F32, model: F32, sigma: F32, kappa: float, known: Mask, full: Mask, width: float
) -> F32:
    """A plane (H, W) without the stars of a model: b + (r - b) sigma / sqrt(sigma^2 + kappa m +
    (.02 m)^2), r what is left and b its mean about; ``known`` pixels tell it, under ``full`` cores
    it is the mean of what lies around, with the sky's grain.
    """
    rest = plane - model
    light = np.maximum(model, np.float32(0))
    variance = sigma**2 + np.float32(kappa) * light + (np.float32(_MODEL_ERROR) * light) ** 2
    weight = np.where(known, 1 / variance, np.float32(0)).astype(np.float32)
    filled = fill(np.where(known, rest, np.float32(0)).astype(np.float32), ~known)
    held = np.asarray(1 / (np.float32(_BEND) * sigma) ** 2, np.float32)
    ground = _mean(filled, weight, _FAR * width, np.float32(0), np.float32(0))
    for reach in (_AROUND, _MEAN):
        ground = _mean(filled, weight, reach * width, held, ground)
    out = ground + (rest - ground) * (sigma / np.sqrt(variance))
    if full.any():
        wide = gaussian(filled, _MEAN_FULL * width)
        out = np.where(full, wide + _texture(filled, model > DRAWN * sigma), out)
    return np.where(model > np.float32(DRAWN) * sigma, out, plane).astype(np.float32)


def _mean(
    plane: F32, weight: F32, reach: float, held: F32 | np.float32, prior: F32 | np.float32
) -> F32:
    """A weighted mean about every pixel, drawn to a ``prior`` of weight ``held``."""
    top = gaussian((plane * weight).astype(np.float32), reach) + held * prior
    bottom = gaussian(weight, reach) + held
    return np.asarray(top / np.maximum(bottom, np.float32(1e-30)), np.float32)


def _texture(rest: F32, stars: Mask, side: int = 96) -> F32:
    """Noise with the spectrum of the quietest part of the frame, laid over all of it."""
    fine = np.asarray(np.sum(details(rest, 3), 0), np.float32)
    height, width = rest.shape
    best, quiet, masked = np.inf, fine[:side, :side], np.inf
    for y in range(0, max(height - side, 1), side):
        for x in range(0, max(width - side, 1), side):
            share = max(float(stars[y : y + side, x : x + side].mean()), _TEXTURE_MASKED)
            part = fine[y : y + side, x : x + side]
            spread = float(np.mean(part * part))
            if (share, spread) < (masked, best):
                masked, best, quiet = share, spread, part
    tall, wide = height // quiet.shape[0] + 1, width // quiet.shape[1] + 1
    return np.tile(quiet, (tall, wide))[:height, :width]


def light_left(starless: F32, p: F64, full_px: F64, sigma: F32, seeker: StarFilter) -> float:
    """What is left at bright stars that has a star's shape, over their light: the median, in which
    loud ones count for more.
    """
    bump = seeker.amplitude(starless)
    height, across = starless.shape
    x, y = np.rint(p[:, X]).astype(int), np.rint(p[:, Y]).astype(int)
    inside = (x >= 0) & (x < across) & (y >= 0) & (y < height) & (full_px == 0)
    x, y, amplitude = x[inside], y[inside], p[inside, AMPLITUDE]
    bright = amplitude > _JUDGED * sigma[y, x]
    if not bright.any():
        return 0.0
    x, y, amplitude = x[bright], y[bright], amplitude[bright]
    return weighted_median(bump[y, x] / amplitude, (amplitude / sigma[y, x]) ** 2)[0]


def roughness(starless: F32, mask: Mask) -> float:
    """The fine scatter under a mask over that beside it."""
    if not mask.any() or mask.all():
        return 0.0
    fine = details(starless, 2)
    scatter = fine[0] + fine[1]
    near = cv2.dilate(mask.astype(np.uint8), np.ones((25, 25), np.uint8)) > 0
    around = scatter[near & ~mask]
    return float(np.std(scatter[mask])) / max(float(np.std(around)), 1e-30)

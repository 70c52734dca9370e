"""What lies under the stars: the noise that their light brought is shrunk to that of the sky, so
that no hole is left that would have to be filled.
"""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..measure.profiles import AMPLITUDE, F64, X, Y
from ..model.planes import F32, Mask
from ..numerics.robust import mad_sigma, weighted_median
from ..numerics.smoothing import broad, fill, gaussian
from ..numerics.starlet import details
from .star_peaks import StarFilter

DRAWN: Final = 0.05
"""A profile is drawn down to so many sigma; where none reaches nothing is touched."""
_MODEL_ERROR: Final = 0.02  # of its light, that a model is wrong by, at least
_TELLS, _ERROR_OVER = 5.0, 1.0
"""Sigma of light from which what is left tells of the model; star widths over which it is told."""
_MEAN: Final = 0.5  # star widths over which the ground is averaged
_AROUND, _FAR, _BEND = 1.5, 5.0, 1.0
"""Where a loud star's model is surer to be wrong than the ground is to bend, by so many sigma at
least, the ground is that of so many star widths about.
"""
_SEEN: Final = 0.05  # share of a neighbourhood without stars, from which it tells how it bends
_FEW_STARS: Final = 0.1  # share of stars in the patch that the noise's texture is taken from
_FINE: Final = 0.917  # of white noise, in the three finest starlet planes
_CLIP: Final = 3.5  # sigma of that texture, beyond which it is what a star has left
_JUDGED: Final = 30.0  # sigma of a star that the quality is told by


def starless_plane(
    plane: F32, model: F32, sigma: F32, kappa: float, known: Mask, full: Mask, width: float
) -> F32:
    """A plane (H, W) without the stars of a model: b + (r - b) sigma / sqrt(sigma^2 + kappa m +
    (e m)^2), r what is left and b its mean about, which ``known`` pixels tell; e is by how much
    the model is seen to be wrong. Under ``full`` cores it is b with the sky's grain.
    """
    rest = plane - model
    light = np.maximum(model, np.float32(0))
    noise = np.asarray(sigma**2 + np.float32(kappa) * light, np.float32)
    filled = fill(np.where(known, rest, np.float32(0)).astype(np.float32), ~known)
    nothing = np.float32(0)

    def far(variance: F32) -> tuple[F32, F32]:
        weight = np.where(known, 1 / variance, nothing).astype(np.float32)
        return weight, _mean(filled, weight, _FAR * width, nothing, nothing)

    _, ground = far(noise + np.square(np.float32(_MODEL_ERROR) * light))
    wrong = _model_error(rest - ground, light, noise, known, width)
    variance = noise + np.square(wrong * light)
    weight, ground = far(variance)
    held = np.reciprocal(_bending(rest - ground, light, sigma, known, width))
    for reach in (_AROUND, _MEAN):
        ground = _mean(filled, weight, reach * width, held, ground)
    stars = model > np.float32(DRAWN) * sigma
    out = ground + (rest - ground) * (sigma / np.sqrt(variance))
    if full.any():
        grain = _texture(filled, stars, float(np.median(sigma[::8, ::8])))
        out = np.where(full, ground + grain * sigma, out)
    return np.where(stars, out, plane).astype(np.float32)


def _model_error(rest: F32, light: F32, noise: F32, known: Mask, width: float) -> F32:
    """By what share of their light the models of stars are wrong here (H, W), from what they leave:
    no star of a pool has quite the profile of the others where the field of one rig ends.
    """
    tells = known & (light > np.float32(_TELLS) * np.sqrt(noise))
    share = np.zeros_like(rest)
    share[tells] = np.maximum(rest[tells] ** 2 - noise[tells], 0) / light[tells] ** 2
    weight = gaussian(tells.astype(np.float32), _ERROR_OVER * width)
    found = gaussian(share, _ERROR_OVER * width) / np.maximum(weight, np.float32(1e-6))
    return np.asarray(np.sqrt(np.maximum(found, np.float32(_MODEL_ERROR**2))), np.float32)


def _bending(rest: F32, light: F32, sigma: F32, known: Mask, width: float) -> F32:
    """Variance (H, W) of the ground about its mean further out, from where there are no stars."""
    calm = known & (light < sigma)
    reach = _FAR * width
    square = np.where(calm, rest**2 - sigma**2, np.float32(0)).astype(np.float32)
    weight = broad(calm.astype(np.float32), reach)
    found = broad(square, reach) / np.maximum(weight, np.float32(_SEEN))
    return np.asarray(np.maximum(found, (np.float32(_BEND) * sigma) ** 2), np.float32)


def _mean(
    plane: F32, weight: F32, reach: float, held: F32 | np.float32, prior: F32 | np.float32
) -> F32:
    """A weighted mean about every pixel, drawn to a ``prior`` of weight ``held``."""
    top = broad((plane * weight).astype(np.float32), reach) + held * prior
    bottom = broad(weight, reach) + held
    return np.asarray(top / np.maximum(bottom, np.float32(1e-30)), np.float32)


def _texture(rest: F32, stars: Mask, middle: float, side: int = 96) -> F32:
    """Noise with the spectrum of the quietest part of the frame that has few stars, laid over all
    of it, per noise of a pixel (``middle``).
    """
    fine = np.asarray(np.sum(details(rest, 3), 0), np.float32)
    height, width = rest.shape
    found = []
    for y in range(0, max(height - side, 1), side):
        for x in range(0, max(width - side, 1), side):
            part = np.s_[y : y + side, x : x + side]
            found.append((float(stars[part].mean()), mad_sigma(fine[part]), part))
    few = max(_FEW_STARS, min(share for share, _, _ in found))
    sigma, part = min(((s, p) for share, s, p in found if share <= few), key=lambda f: f[0])
    most = np.float32(_CLIP * sigma)
    quiet = np.clip(fine[part], -most, most)
    quiet = quiet / np.float32(max(middle, sigma / _FINE))  # where nebula is everywhere, it is more
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

"""What one sub and the finished stack of a plan would look like."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..blend.stretch import Curve
from ..model.planes import F32
from ..model.settings import Stretch
from ..numerics.robust import FWHM_TO_SIGMA
from ..numerics.smoothing import gaussian
from .scene import SceneRecipe, make_scene

_SEED: Final = 12
_WIDER: Final = 1.5
"""The frame is so many times as wide as the target."""
_FULL_QUANTILE: Final = 0.9
"""Nebula brighter than this share of the frame shines as the plan assumes."""
_WHITE: Final = 20.0
_SHARPEST_PX: Final = 0.8


@dataclass(frozen=True)
class SkyLight:
    """Electrons a second and camera pixel of target, sky and dark current; read noise in electrons;
    the camera's pixel and the stars' width in arcsec.
    """

    target_e_s: float
    sky_e_s: float
    dark_e_s: float
    read_noise_e: float
    scale_arcsec: float
    fwhm_arcsec: float


def simulate_outlook(
    channel: str,
    light: SkyLight,
    sub_s: float,
    hours: float,
    size_arcmin: tuple[float, float],
    shape: tuple[int, int],
) -> tuple[F32, F32]:
    """One sub and the stack of ``hours`` as grey codes 0 to 1, (H, W) each of ``shape``; the target
    (width, height) in arcminutes. From a fixed seed.
    """
    scale = max(size_arcmin[0] * 60 * _WIDER, shape[1] * light.scale_arcsec) / shape[1]
    binned = (scale / light.scale_arcsec) ** 2  # one pixel here stands for several of the camera
    half = (size_arcmin[0] / 2, size_arcmin[1] / 2)
    recipe = SceneRecipe(half_size_arcmin=half, star_count=1200)
    scene = make_scene(shape, scale, _SEED, recipe)
    line = scene.lines.get(channel, scene.lines["Ha"])
    full = np.float32(np.quantile(line, _FULL_QUANTILE))
    glow = (line / full * np.float32(light.target_e_s)).astype(np.float32)
    seen = gaussian(glow, max(light.fwhm_arcsec / scale / FWHM_TO_SIGMA, _SHARPEST_PX))
    around = light.sky_e_s + light.dark_e_s
    signal = light.target_e_s * sub_s * binned
    pictures = []
    for number, subs in enumerate((1, max(round(hours * 3600 / sub_s), 1))):
        rng = np.random.default_rng([_SEED, number])
        electrons = (seen + np.float32(around)) * np.float32(sub_s * binned)
        noise = light.read_noise_e * np.sqrt(binned * subs)
        counts = rng.poisson(electrons * subs) + rng.normal(0, noise, shape)
        level = counts / subs - around * sub_s * binned
        code = Curve(Stretch(), _WHITE)((level / signal).astype(np.float32))
        pictures.append(np.clip(code, 0, 1).astype(np.float32))
    return pictures[0], pictures[1]

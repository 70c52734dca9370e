"""Companion planes: what the blend needs of a neighbourhood, prepared beforehand at half size."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import cv2
import numpy as np

from ..model.measures import Stars
from ..model.planes import F32
from ..model.recipe import ChannelFigures, Recipe
from ..numerics.smoothing import gaussian
from .green import green_plane
from .inputs import DISCS, GLOW, GREEN, Key
from .lifts import lift_plane
from .masks import SMOOTH_PX, area_plane, level_plane

_SIGMA_PX = 2.0


def half_size(plane: F32) -> F32:
    """2x2 means of a finite plane; an odd last row or column is repeated first."""
    height, width = plane.shape
    if height % 2 or width % 2:
        plane = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    return np.asarray(
        cv2.resize(plane, (plane.shape[1] // 2, plane.shape[0] // 2), interpolation=cv2.INTER_AREA),
        np.float32,
    )


def glow_plane(halves: Iterable[tuple[F32, ChannelFigures]]) -> F32:
    """SNR of the light smoothed by 2 px, the strongest channel's, at half size, from half-size
    planes.
    """
    glow: F32 | None = None
    for plane, figures in halves:
        sigma = figures.sigma_large / (2 * np.sqrt(np.pi) * _SIGMA_PX)
        z = gaussian(plane, _SIGMA_PX / 2) * np.float32(1 / sigma)
        np.clip(z, 0, 60, out=z)
        glow = z if glow is None else np.maximum(glow, z)
    if glow is None:
        raise ValueError("no plane")
    return glow


def star_plane(shape: tuple[int, int], stars: Iterable[Stars]) -> F32:
    """Soft discs over the stars of all channels, 0 to 1, at half size of ``shape``."""
    height, width = (shape[0] + 1) // 2, (shape[1] + 1) // 2
    mask = np.zeros((height, width), np.uint8)
    for field in stars:
        if not field.x or field.fwhm_px is None:
            continue
        flux = np.array(field.flux)
        bright = np.log10(np.maximum(flux / np.quantile(flux, 0.3), 1)).clip(0, 3)
        for x, y, b in zip(field.x, field.y, bright, strict=True):
            radius = 0.5 * field.fwhm_px * (0.9 + 1.1 * float(b))
            centre = (round((x - 0.5) * 8), round((y - 0.5) * 8))
            cv2.circle(mask, centre, max(1, round(radius * 16)), (255,), -1, cv2.LINE_AA, 4)
    return gaussian(np.asarray(mask / np.float32(255), np.float32), 0.6)


Make = Callable[[Sequence[Any], tuple[int, int]], F32]
"""From what the channels give (half-size planes, or their stars) and the picture's shape."""


def companion_of(recipe: Recipe, key: Key) -> tuple[tuple[str, ...], Make]:
    """The channels that a companion is made of, and what makes it. Raises ValueError for a key that
    is none.
    """
    figures, used = recipe.channels, recipe.settings.used()
    if key == GLOW:
        return used, lambda planes, _shape: glow_plane(
            zip(planes, (figures[n] for n in used), strict=True)
        )
    if key == DISCS:
        return used, lambda stars, shape: star_plane(shape, stars)
    if key == GREEN:
        pair = (figures["O3"], figures["Ha"])
        return ("O3", "Ha"), lambda planes, _shape: green_plane(planes[0], planes[1], pair, 2.0)
    if key.kind == "level":
        sigma = figures[key.name].sigma_large / (2 * np.sqrt(np.pi) * SMOOTH_PX)
        return (key.name,), lambda planes, _shape: level_plane(planes[0], sigma)
    if key.kind == "area":
        mask = recipe.settings.active_masks()[int(key.name)]
        return (), lambda _planes, shape: area_plane(shape, mask.area, mask.feather)
    if key.kind == "lift":
        lift = recipe.figures.lifts[key.name]
        both, k = (figures[key.name], figures[lift.broad]), lift.k
        return (key.name, lift.broad), lambda p, _shape: lift_plane(p[0], p[1], k, both)
    raise ValueError(f"{key} is no companion")

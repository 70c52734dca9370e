"""An invented spiral galaxy, inclined: bulge, arms of young stars, dust in front, knots of gas."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from .fields import power_field, ridged, smoothstep
from .scene import Scene, field_stars

_OLD: Final = {"R": 1.22, "G": 1.00, "B": 0.72}
_YOUNG: Final = {"R": 0.84, "G": 0.95, "B": 1.10}
"""Light of old and young stars in each colour, relative to white."""
_DUST: Final = {"R": 0.72, "G": 1.0, "B": 1.36}
"""Extinction of each colour relative to green (the law of Cardelli et al. 1989, R_V = 3.1)."""
_LINE_DUST: Final = {"Ha": 0.70, "S2": 0.68, "O3": 1.05, "Hb": 1.08}
_UNIT_MAG: Final = 22.0
"""Surface brightness that the continuum is counted in (mag/arcsec2)."""


@dataclass(frozen=True)
class GalaxyRecipe:
    """What the galaxy is made of. ``size_arcmin`` are its long and short axis, ``angle_deg`` turns
    the long one from the picture's rows; brightness in mag/arcsec2 of core and disc, in rayleigh of
    the brightest knots.
    """

    size_arcmin: tuple[float, float] = (14.0, 8.0)
    angle_deg: float = -24.0
    core_mag: float = 14.9
    disc_mag: float = 20.6
    knots: int = 84
    ha: float = 900.0
    pitch_deg: float = 17.0
    star_count: int = 900
    brightest_mag: float = 8.6
    beacons: tuple[tuple[float, float, float], ...] = ()


def make_galaxy(
    shape: tuple[int, int], scale_arcsec: float, seed: int = 27, recipe: GalaxyRecipe | None = None
) -> Scene:
    """The galaxy in the middle of a grid of ``shape`` (H, W). Same seed, same sky."""
    recipe = recipe or GalaxyRecipe()
    rng = np.random.default_rng(seed)
    disc = _Disc(shape, scale_arcsec, recipe, rng)
    old, young = disc.light()
    dust = disc.dust()
    clusters, lines = disc.knots(young)
    lines = {n: p * np.exp(-np.float32(_LINE_DUST[n]) * dust) for n, p in lines.items()}
    smudges = _distant(shape, scale_arcsec, rng)
    continuum = {
        c: (
            (_OLD[c] * old + _YOUNG[c] * (young + clusters)) * np.exp(-np.float32(_DUST[c]) * dust)
            + smudges * np.float32(_OLD[c])
        ).astype(np.float32)
        for c in ("R", "G", "B")
    }
    stars = field_stars(shape, np.zeros(shape, np.float32), recipe, rng)
    return Scene(scale_arcsec, lines, continuum, stars)


class _Disc:
    """Coordinates in the plane of the disc, and what lies in it. Radius 1 is the end of the long
    axis.
    """

    def __init__(
        self, shape: tuple[int, int], scale: float, recipe: GalaxyRecipe, rng: np.random.Generator
    ) -> None:
        self.shape, self.recipe, self.rng = shape, recipe, rng
        self.unit = recipe.size_arcmin[0] * 30 / scale  # half the long axis in pixels
        self.flat = recipe.size_arcmin[1] / recipe.size_arcmin[0]
        y, x = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
        dx, dy = x - (shape[1] - 1) / 2, y - (shape[0] - 1) / 2
        c, s = np.cos(np.radians(recipe.angle_deg)), np.sin(np.radians(recipe.angle_deg))
        self.along = (c * dx + s * dy) / self.unit
        self.across = (c * dy - s * dx) / self.unit
        bend = [power_field(shape, 4.4, rng, self.unit * 0.5) * np.float32(0.022) for _ in range(2)]
        u, v = self.along + bend[0], self.across / self.flat + bend[1]
        self.radius = np.hypot(u, v).astype(np.float32)
        self.angle = np.arctan2(v, u).astype(np.float32)
        grain = power_field(shape, 2.6, rng, self.unit * 0.16)
        self.grain = np.clip(0.75 + 0.55 * grain, 0.05, None).astype(np.float32)
        self.phase = self._phase(0.0)

    def _phase(self, ahead: float) -> F32:
        """Angle from the crest of the nearest of two arms, -pi/2 to pi/2; ``ahead`` moves it."""
        turn = np.log(np.maximum(self.radius, 0.03)) / np.tan(np.radians(self.recipe.pitch_deg))
        phase = self.angle - turn - np.float32(ahead)
        return (np.mod(phase + np.pi / 2, np.pi) - np.pi / 2).astype(np.float32)

    def light(self) -> tuple[F32, F32]:
        """Old and young stars, in units of the surface brightness that the continuum counts in."""
        r = self.radius
        core = 10 ** (0.4 * (_UNIT_MAG - self.recipe.core_mag))
        middle = 10 ** (0.4 * (_UNIT_MAG - self.recipe.disc_mag))
        # the bulge is rounder than the disc: its own radius, exponential with a sharp heart
        round_ = np.hypot(self.along, self.across / max(self.flat, 0.72))
        bulge = core * np.exp(-round_ / 0.014) + 0.035 * core * np.exp(-round_ / 0.062)
        edge = smoothstep(1.16, 0.75, r)
        disc = middle * np.exp(-r / 0.30) * (edge + 0.18)
        wide = np.exp(-((self._phase(-0.1) / 0.62) ** 2))
        old = bulge + disc * (0.55 + 0.75 * wide)
        sharp = np.exp(-((self.phase / 0.30) ** 2)) + 0.30 * np.exp(
            -((self._phase(np.pi / 4) / 0.22) ** 2)
        )
        inner = smoothstep(0.10, 0.24, r)
        young = 1.5 * middle * np.exp(-r / 0.42) * sharp * inner * edge * self.grain**2
        return old.astype(np.float32), young.astype(np.float32)

    def dust(self) -> F32:
        """Optical depth in green: lanes inside the arms, threads between them, more on the side
        that lies in front.
        """
        threads = ridged(power_field(self.shape, 3.0, self.rng, self.unit * 0.22), 3.4)
        fine = ridged(power_field(self.shape, 2.6, self.rng, self.unit * 0.09), 3.0)
        lanes = np.exp(-((self._phase(-0.34) / 0.16) ** 2)) * (0.35 + 1.3 * threads)
        body = smoothstep(0.07, 0.16, self.radius) * smoothstep(1.05, 0.45, self.radius)
        front = 0.35 + 1.15 * smoothstep(-0.05, 0.10, -self.across)
        depth = (1.6 * lanes + 0.75 * threads * fine) * body * front
        # a ring of dust about the bulge, seen where it passes in front
        ring = np.exp(-(((self.radius - 0.20) / 0.035) ** 2)) * smoothstep(
            -0.01, 0.03, -self.across
        )
        return (depth + 0.9 * ring * (0.3 + threads)).astype(np.float32)

    def knots(self, young: F32) -> tuple[F32, dict[str, F32]]:
        """Clusters of hot stars along the arms, and the gas that they light."""
        width = self.shape[1]
        chance = young * smoothstep(0.16, 0.30, self.radius) + 1e-12
        chance = np.cumsum(chance.ravel().astype(np.float64))
        chosen = np.searchsorted(chance, self.rng.uniform(0, chance[-1], self.recipe.knots))
        gas, hot, clusters = (np.zeros(self.shape, np.float32) for _ in range(3))
        for rank, place in enumerate(chosen):
            y, x = divmod(int(place), width)
            bright = np.float32((rank + 1.0) ** -0.38)
            size = self.unit * self.rng.uniform(0.0055, 0.0125) * (0.6 + 0.8 * float(bright))
            for _ in range(self.rng.integers(2, 6)):
                off = self.rng.normal(0, 1.3 * size, 2)
                part = bright * np.float32(self.rng.uniform(0.25, 1.0))
                wide = size * self.rng.uniform(0.5, 1.3)
                _add_blob(gas, x + off[0], y + off[1] * self.flat, wide, part)
                _add_blob(hot, x + off[0], y + off[1] * self.flat, 0.7 * wide, part * part)
            _add_blob(clusters, x, y, 0.6 * size, bright)
        thin = young / max(float(np.quantile(young, 0.999)), 1e-9)
        peak = max(float(gas.max()), 1e-9)
        ha = self.recipe.ha * (gas / peak + 0.035 * thin)
        o3 = self.recipe.ha * 0.42 * hot / max(float(hot.max()), 1e-9)
        s2 = 0.16 * ha + self.recipe.ha * 0.012 * thin
        lines = {"Ha": ha, "O3": o3, "S2": s2, "Hb": ha / 2.86}
        shine = 10 ** (0.4 * (_UNIT_MAG - self.recipe.disc_mag)) * 1.1
        return clusters * np.float32(shine), {n: p.astype(np.float32) for n, p in lines.items()}


def _add_blob(plane: F32, x: float, y: float, sigma: float, height: float | np.floating) -> None:
    reach = int(4 * sigma) + 2
    x0, x1 = max(int(x) - reach, 0), min(int(x) + reach + 1, plane.shape[1])
    y0, y1 = max(int(y) - reach, 0), min(int(y) + reach + 1, plane.shape[0])
    if x0 < x1 and y0 < y1:
        away = (np.arange(x0, x1) - x) ** 2 + ((np.arange(y0, y1) - y) ** 2)[:, None]
        plane[y0:y1, x0:x1] += (height * np.exp(-away / (2 * sigma**2))).astype(np.float32)


def _distant(shape: tuple[int, int], scale: float, rng: np.random.Generator) -> F32:
    """Galaxies far behind: small, faint, at all angles."""
    plane = np.zeros(shape, np.float32)
    for _ in range(26):
        x, y = rng.uniform(0, shape[1]), rng.uniform(0, shape[0])
        size, flat, turn = (
            rng.uniform(1.6, 7.0) / scale,
            rng.uniform(0.25, 0.9),
            rng.uniform(0, 3.1),
        )
        reach = int(6 * size) + 2
        x0, y0 = int(x) - reach, int(y) - reach
        yy, xx = np.mgrid[y0 : y0 + 2 * reach, x0 : x0 + 2 * reach].astype(np.float32)
        u = (xx - x) * np.cos(turn) + (yy - y) * np.sin(turn)
        v = ((yy - y) * np.cos(turn) - (xx - x) * np.sin(turn)) / flat
        stamp = np.exp(-np.hypot(u, v) / size) * rng.uniform(0.25, 1.6)
        ys, xs = slice(max(y0, 0), y0 + 2 * reach), slice(max(x0, 0), x0 + 2 * reach)
        part = plane[ys, xs]
        part += stamp[max(-y0, 0) :, max(-x0, 0) :][: part.shape[0], : part.shape[1]]
    return cv2.GaussianBlur(plane, (0, 0), 0.7).astype(np.float32)

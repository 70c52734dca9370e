"""An invented nebula: filaments, a cavity around hot stars, ionisation layers, dust and a star
field.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Protocol

import numpy as np

from ..model.channel import WAVELENGTH_NM
from ..model.planes import F32
from .cloud import Cloud

_FAINTEST_MAG: Final = 17.2
_BRIGHT: Final = 0.985
"""Quantile of a line at which its brightness is that of the recipe."""


@dataclass(frozen=True)
class StarTable:
    """Stars of a scene: pixel positions, AB magnitude at 550 nm, temperature, extinction at 550 nm
    (mag).
    """

    x: F32
    y: F32
    mag: F32
    temperature_k: F32
    extinction: F32

    def ab_mag(self, wavelength_nm: float) -> F32:
        """AB magnitude at a wavelength: black body, reddened as 1/lambda."""
        ratio = _planck_nu(wavelength_nm, self.temperature_k) / _planck_nu(
            550.0, self.temperature_k
        )
        red = self.extinction * (550.0 / wavelength_nm)
        return (self.mag - 2.5 * np.log10(ratio) + red).astype(np.float32)


@dataclass(frozen=True)
class Scene:
    """The truth: line brightness in rayleigh per channel (H, W), continuum in AB mag/arcsec2 terms,
    stars.

    ``continuum`` holds linear photon rates relative to AB 22 per arcsec2, for R, G and B.
    """

    scale_arcsec: float
    lines: dict[str, F32]
    continuum: dict[str, F32]
    stars: StarTable

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width in pixels."""
        first = next(iter(self.lines.values()))
        return int(first.shape[0]), int(first.shape[1])


@dataclass(frozen=True)
class SceneRecipe:
    """What the invented nebula is made of. Brightness in rayleigh at the bright parts.

    ``half_size_arcmin`` are the half axes of its envelope; the cavity sits at ``heart`` (in half
    axes). ``beacons`` are bright stars in front of all: place as a share of width and height, and
    magnitude.
    """

    half_size_arcmin: tuple[float, float] = (24.0, 17.5)
    heart: tuple[float, float] = (-0.08, 0.04)
    ha: float = 300.0
    o3: float = 55.0
    s2: float = 38.0
    filaments: float = 1.0
    star_count: int = 3000
    brightest_mag: float = 7.4
    beacons: tuple[tuple[float, float, float], ...] = ()


def make_scene(
    shape: tuple[int, int], scale_arcsec: float, seed: int = 12, recipe: SceneRecipe | None = None
) -> Scene:
    """Build the scene on a grid of ``shape`` (H, W) with ``scale_arcsec`` per pixel. Same seed,
    same sky.
    """
    recipe = recipe or SceneRecipe()
    rng = np.random.default_rng(seed)
    cloud = Cloud(shape, scale_arcsec, recipe.half_size_arcmin, recipe.heart, rng)
    lines = _lines(cloud, recipe)
    glow = cloud.gas * (0.35 + 0.65 * np.exp(-2.0 * cloud.light))
    continuum = {
        name: (strength * glow * np.exp(-depth * cloud.dust)).astype(np.float32)
        for name, strength, depth in (("R", 0.10, 0.8), ("G", 0.10, 1.1), ("B", 0.16, 1.4))
    }
    return Scene(scale_arcsec, lines, continuum, field_stars(shape, cloud.dust, recipe, rng))


def _lines(cloud: Cloud, recipe: SceneRecipe) -> dict[str, F32]:
    """O3 where the light is hard, Ha where it ends, S2 behind the fronts; the dust takes more of
    the bluer line.
    """
    planes = {
        "Ha": (cloud.shining + 0.09 * cloud.haze) * np.exp(-0.65 * cloud.dust),
        "O3": (cloud.hard + 0.22 * cloud.haze * cloud.light) * np.exp(-1.0 * cloud.dust),
        "S2": (cloud.fronts + 0.04 * cloud.haze) * np.exp(-0.62 * cloud.dust),
    }
    peaks = {"Ha": recipe.ha, "O3": recipe.o3, "S2": recipe.s2}
    out = {
        n: (p / np.quantile(p, _BRIGHT) * peaks[n]).astype(np.float32) for n, p in planes.items()
    }
    # Balmer ratio 2.86, the dust takes a little more of the bluer line
    out["Hb"] = (out["Ha"] / 2.86 * np.exp(-0.35 * cloud.dust)).astype(np.float32)
    return out


class StarField(Protocol):
    """What tells how many stars a scene has."""

    @property
    def star_count(self) -> int:
        """Stars on a grid of the first demo's size."""
        ...

    @property
    def brightest_mag(self) -> float:
        """Magnitude of the brightest."""
        ...

    @property
    def beacons(self) -> tuple[tuple[float, float, float], ...]:
        """Bright stars in front of all: place as a share of width and height, magnitude."""
        ...


def field_stars(
    shape: tuple[int, int],
    dust: F32,
    recipe: StarField,
    rng: np.random.Generator,
    faintest_mag: float = _FAINTEST_MAG,
) -> StarTable:
    """Stars of a field, most of them behind ``dust`` (optical depth)."""
    height, width = shape
    count = round(recipe.star_count * height * width / (1070 * 1600))
    x = rng.uniform(-8, width + 8, count).astype(np.float32)
    y = rng.uniform(-8, height + 8, count).astype(np.float32)
    # Pareto law: cumulative counts grow as 10^(0.36 mag)
    low = 10 ** (0.36 * (recipe.brightest_mag - faintest_mag))
    mag = faintest_mag + np.log10(rng.uniform(low, 1, count)) / 0.36
    temperature = np.exp(rng.normal(np.log(5600), 0.36, count)).clip(2900, 24000)
    inside = dust[np.clip(y, 0, height - 1).astype(int), np.clip(x, 0, width - 1).astype(int)]
    behind = rng.uniform(0, 1, count) < 0.65
    extinction = 0.25 + np.where(behind, 0.75 * inside, 0)
    for n, (u, v, bright) in enumerate(recipe.beacons):
        x[n], y[n], mag[n], temperature[n], extinction[n] = (
            u * width,
            v * height,
            bright,
            6200 + 900 * n,
            0.05,
        )
    return StarTable(x, y, *(a.astype(np.float32) for a in (mag, temperature, extinction)))


def _planck_nu(wavelength_nm: float, temperature_k: F32) -> np.ndarray:
    x = 1.4388e7 / (wavelength_nm * np.asarray(temperature_k, np.float64))
    return np.asarray((550.0 / wavelength_nm) ** 3 / np.expm1(x))


__all__ = ["WAVELENGTH_NM", "Scene", "SceneRecipe", "StarTable", "make_scene"]

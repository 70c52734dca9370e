"""Simulated stacks for the tests."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bichromus.core.extract import load_response
from bichromus.core.model.rig import RIGS, SITES
from bichromus.core.simulate.camera import Sky
from bichromus.core.simulate.demo import GRIDS, SCALE_ARCSEC, SEED, DemoStack, simulate_stack
from bichromus.core.simulate.scene import Scene, SceneRecipe
from filaments import make_filaments

SMALL = (428, 640)
HALF = {
    name: replace(
        g,
        shape=(g.shape[0] // 2, g.shape[1] // 2),
        shift_arcmin=(g.shift_arcmin[0] / 2, g.shift_arcmin[1] / 2),
    )
    for name, g in GRIDS.items()
}
"""The demo's grids at half their size."""


def small_sky() -> Scene:
    """A small sky of known truth: filaments about a cavity."""
    shrink = SMALL[1] / 1600
    half = SceneRecipe().half_size_arcmin
    recipe = SceneRecipe(half_size_arcmin=(half[0] * shrink, half[1] * shrink))
    return make_filaments(SMALL, SCALE_ARCSEC, SEED, recipe)


TIDY = (
    DemoStack("Ridge", "Ha", 76, 300, 1.15),
    DemoStack("Ridge", "O3", 108, 300, 1.05),
    DemoStack("Ridge", "S2", 96, 300, 1.10),
    DemoStack("Ridge", "R", 35, 60),
    DemoStack("Ridge", "G", 35, 60),
    DemoStack("Ridge", "B", 30, 60),
    DemoStack("Balcony", "Ha+O3", 60, 300, 1.3, 0.88, (0.10, -0.06)),
    DemoStack("Balcony", "O3+S2", 52, 300, 1.5, 0.82, (-0.07, 0.08)),
)


def stack_of(
    scene: Scene, station: str, band: str, subs: int, seed: int, **sky: float
) -> np.ndarray:
    """A simulated stack of one of the demo's rigs."""
    base = Sky(SITES[station].sky_mag)
    return simulate_stack(
        scene,
        RIGS[station],
        band,
        replace(base, **sky),
        subs,
        300.0,
        load_response("generic").table,
        np.random.default_rng(seed),
    )


def sub_plane(
    scene: Scene,
    seed: int,
    light: float = 1.0,
    fwhm_px: float = 2.6,
    sky: float = 1.0,
    shift: tuple[float, float] = (0.0, 0.0),
    drift_px: float = 0.0,
    trail: float = 0.0,
) -> np.ndarray:
    """A single sub in electrons, with the faults of a night: less light, wide or long stars, bright
    sky, a line across.
    """
    from bichromus.core.simulate.camera import render_stars
    from bichromus.core.simulate.scene import StarTable

    rng = np.random.default_rng(seed)
    flux = 4e4 * 10 ** (-0.4 * (scene.stars.mag - 10)) * light
    plane = np.zeros(scene.shape, np.float32)
    steps = np.linspace(-drift_px / 2, drift_px / 2, 9 if drift_px else 1)
    for step in steps:
        stars = StarTable(
            (scene.stars.x + shift[0] + step).astype(np.float32),
            (scene.stars.y + shift[1]).astype(np.float32),
            scene.stars.mag,
            scene.stars.temperature_k,
            scene.stars.extinction,
        )
        render_stars(plane, stars, flux / len(steps), fwhm_px)
    plane += scene.lines["Ha"] * np.float32(0.1 * light) + np.float32(400.0 * sky)
    if trail:
        y, x = np.mgrid[0 : scene.shape[0], 0 : scene.shape[1]]
        angle = rng.uniform(0.15, 1.2)
        away = np.abs(
            (x - scene.shape[1] / 2) * np.sin(angle)
            - (y - scene.shape[0] / 2 + rng.uniform(-60, 60)) * np.cos(angle)
        )
        plane += np.float32(trail * 20) * np.exp(-((away / 1.2) ** 2)).astype(np.float32)
    return (rng.poisson(np.clip(plane, 0, None)) + rng.normal(0, 3, scene.shape)).astype(np.float32)

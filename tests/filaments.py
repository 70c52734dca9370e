"""A sky of another morphology: long parallel filaments, for tests that must not rest on one kind of
nebula.
"""

from __future__ import annotations

import cv2
import numpy as np

from bichromus.core.model.planes import F32
from bichromus.core.simulate.fields import power_field, ridged, smoothstep
from bichromus.core.simulate.scene import Scene, SceneRecipe, StarTable, field_stars


def make_filaments(
    shape: tuple[int, int], scale_arcsec: float, seed: int = 12, recipe: SceneRecipe | None = None
) -> Scene:
    """The scene on a grid of ``shape`` (H, W). Same seed, same sky."""
    recipe = recipe or SceneRecipe()
    rng = np.random.default_rng(seed)
    density, ionised, edges, dust = _structure(shape, scale_arcsec, recipe, rng)
    lines = _lines(density, ionised, edges, dust, recipe)
    glow = density * (0.35 + 0.65 * np.exp(-2.0 * ionised))
    continuum = {
        name: (strength * glow * np.exp(-depth * dust)).astype(np.float32)
        for name, strength, depth in (("R", 0.10, 0.8), ("G", 0.10, 1.1), ("B", 0.16, 1.4))
    }
    stars = field_stars(shape, dust, recipe, rng, 17.6)
    own = RedStars(**vars(stars))
    return Scene(scale_arcsec, lines, continuum, own)


class RedStars(StarTable):
    """Stars that are redder than black bodies."""

    def ab_mag(self, wavelength_nm: float) -> F32:
        """AB magnitude at a wavelength."""
        light = [1 / np.expm1(1.4388e7 / (nm * self.temperature_k)) for nm in (wavelength_nm, 550)]
        red = self.extinction * (550.0 / wavelength_nm)
        return (self.mag - 2.5 * np.log10(light[0] / light[1]) + red).astype(np.float32)


def _structure(
    shape: tuple[int, int], scale: float, recipe: SceneRecipe, rng: np.random.Generator
) -> tuple[F32, F32, F32, F32]:
    """Density, ionisation depth (0 at the hot stars, 1 at the front), front strength, dust
    depth.
    """
    height, width = shape
    unit = recipe.half_size_arcmin[0] * 60 / scale  # the long half axis in pixels
    flat = recipe.half_size_arcmin[0] / recipe.half_size_arcmin[1]
    gy, gx = np.mgrid[0:height, 0:width].astype(np.float32)
    longest = 0.9 * unit
    wx, wy = (power_field(shape, 5.0, rng, longest) * np.float32(0.06 * unit) for _ in range(2))
    fine_x, fine_y = (
        power_field(shape, 4.2, rng, longest / 4) * np.float32(0.012 * unit) for _ in range(2)
    )

    def warped(field: F32, more: float = 1.0) -> F32:
        return np.asarray(
            cv2.remap(
                field,
                gx + more * (wx + fine_x),
                gy + more * (wy + fine_y),
                cv2.INTER_CUBIC,
                borderMode=cv2.BORDER_REFLECT_101,
            ),
            np.float32,
        )

    ridges = ridged(warped(power_field(shape, 3.1, rng, longest / 1.5)), 4.0)
    threads = ridged(warped(power_field(shape, 2.9, rng, longest / 4)), 3.4)
    grain = warped(power_field(shape, 2.5, rng, longest / 8))
    smooth = warped(power_field(shape, 4.0, rng, longest))
    u = (gx - width / 2 + 1.6 * wx) / unit
    v = (gy - height / 2 + 1.6 * wy) / unit * flat
    radius = np.sqrt(u * u + v * v)
    envelope = smoothstep(1.18, 0.25, radius + 0.10 * smooth)
    hu, hv = u - recipe.heart[0], v - recipe.heart[1]
    hollow = np.sqrt(hu * hu + (hv * 0.92) ** 2) + 0.045 * smooth + 0.05 * (threads - 0.4)
    front = 0.46
    cavity = smoothstep(front * 0.25, front * 1.08, hollow)
    body = 0.30 + recipe.filaments * (0.42 * ridges + 0.30 * threads + 0.05 * grain) + 0.14 * smooth
    density = np.clip(body, 0, None) ** 2.2 * envelope * (0.16 + 0.84 * cavity)
    rim = np.exp(-(((hollow - front * 1.05) / 0.09) ** 2)) * (0.4 + 1.0 * ridges)
    density = density * (1 + 1.3 * rim)
    halo = (
        0.032
        * smoothstep(1.6, 0.3, radius)
        * np.clip(0.75 + 0.5 * smooth + 0.35 * ridges, 0.1, None)
    )
    density = (density + halo) / np.quantile(density, 0.985)
    lanes = ridged(warped(power_field(shape, 2.9, rng, longest / 1.3)), 2.4)
    knots = smoothstep(0.6, 1.7, warped(power_field(shape, 3.0, rng, longest / 2.5)))
    dust = (
        1.5 * smoothstep(0.66, 1.06, lanes + 0.06 * grain) * smoothstep(1.3, 0.35, radius)
        + 0.9 * knots * envelope
    )
    ionised = np.clip(hollow / front, 0, 3)
    blurred = cv2.GaussianBlur(density.astype(np.float32), (0, 0), 0.02 * unit)
    edges = np.clip(density - blurred, 0, None) * smoothstep(0.75, 1.5, ionised)
    return (
        density.astype(np.float32),
        ionised.astype(np.float32),
        edges.astype(np.float32),
        dust.astype(np.float32),
    )


def _lines(
    density: F32, ionised: F32, edges: F32, dust: F32, recipe: SceneRecipe
) -> dict[str, F32]:
    """O3 inside, Ha between, S2 on the rims and fronts; the dust takes more of the bluer line."""
    glow = smoothstep(1.40, 0.30, ionised) * (0.22 + 1.1 * np.sqrt(np.clip(density, 0, None)))
    ring = np.exp(-(((ionised - 0.88) / 0.26) ** 2)) * density
    arc = np.exp(-(((ionised - 1.75) / 0.09) ** 2)) * density
    o3 = (0.50 * glow + 0.45 * ring + 0.25 * arc) * np.exp(-1.0 * dust)
    between = (0.16 + 0.84 * smoothstep(0.45, 1.10, ionised)) * (
        1.15 - 0.55 * smoothstep(1.1, 2.6, ionised)
    )
    ha = (density * between + 0.04 * glow) * np.exp(-0.65 * dust)
    rims = density * (0.14 + 1.3 * smoothstep(1.10, 2.4, ionised)) * smoothstep(0.75, 1.25, ionised)
    s2 = (rims + 1.1 * edges) * np.exp(-0.62 * dust)
    out = {}
    for name, plane, peak in (("Ha", ha, recipe.ha), ("O3", o3, recipe.o3), ("S2", s2, recipe.s2)):
        out[name] = (plane / np.quantile(plane, 0.985) * peak).astype(np.float32)
    # Balmer ratio 2.86, the dust takes a little more of the bluer line
    out["Hb"] = (out["Ha"] / 2.86 * np.exp(-0.35 * dust)).astype(np.float32)
    return out

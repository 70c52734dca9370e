"""From a scene to what a camera delivers: photons, noise, mosaic, stack."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.channel import COLOURS, WAVELENGTH_NM
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from ..model.rig import Filter, Rig
from ..numerics.compiled import Compiled
from ..numerics.robust import FWHM_TO_SIGMA
from ..numerics.smoothing import gaussian
from ..plan.sky import PHOTONS_AB0, RAYLEIGH
from .photons import counted
from .scene import Scene, StarTable

_BETA = 3.2  # wings of the Moffat profile
_FINE: Final = 256  # steps of a profile's alpha in a table: right to a hundred-thousandth


@dataclass(frozen=True)
class Sky:
    """Sky over the rig: AB mag/arcsec2, moonlight as a factor on it, transparency; its gradient
    from side to side and from top to bottom, and how much it bends (share of the level, corner over
    middle).
    """

    mag: float = 21.5
    moon_factor: float = 1.0
    transparency: float = 1.0
    gradient: tuple[float, float] = (0.0, 0.0)
    bend: float = 0.0


@dataclass(frozen=True)
class Aberrations:
    """Faults of a rig: ``tilt`` widens the stars across and down the frame (share of their width,
    side to side), ``halo`` is the share of a star's light that a filter throws back as a disc of
    ``halo_arcsec`` radius.
    """

    tilt: tuple[float, float] = (0.0, 0.0)
    halo: float = 0.0
    halo_arcsec: float = 60.0


BROAD_RESPONSE: Final = {
    "R": {"R": 0.86, "G": 0.09, "B": 0.02},
    "G": {"R": 0.08, "G": 1.00, "B": 0.14},
    "B": {"R": 0.02, "G": 0.13, "B": 0.84},
}
"""What each plane of a colour sensor sees of red, green and blue light."""
PERFECT = Aberrations()
_HALOS = 6


Response = Mapping[str, Mapping[str, float]]
"""Plane (R, G, B) to line to relative response."""


def photon_flux_ab(mag: float | F32, wavelength_nm: float) -> np.ndarray:
    """Photons/s/m2/nm of an AB magnitude."""
    return PHOTONS_AB0 / wavelength_nm * 10.0 ** (-0.4 * np.asarray(mag, np.float64))


def line_rate(rig: Rig, scale_arcsec: float) -> float:
    """Electrons/s/pixel for one rayleigh, before filter and response. Pixels of
    ``scale_arcsec``.
    """
    return RAYLEIGH * rig.area_cm2 / 1e4 * scale_arcsec**2 * rig.throughput * rig.quantum_efficiency


def continuum_rate(rig: Rig, mag: float | F32, wavelength_nm: float, width_nm: float) -> np.ndarray:
    """Electrons/s of a source of AB magnitude ``mag`` (per whatever area it is given for)."""
    return (
        photon_flux_ab(mag, wavelength_nm)
        * rig.area_cm2
        / 1e4
        * width_nm
        * rig.throughput
        * rig.quantum_efficiency
    )


def band_rates(
    scene: Scene,
    rig: Rig,
    band: Filter,
    sky: Sky,
    optics: Aberrations = PERFECT,
) -> dict[str, tuple[F32, float]]:
    """For each channel of ``band``: e-/s/pixel of what is in the sky, and of the sky itself, at
    full response.
    """
    rate = line_rate(rig, scene.scale_arcsec) * band.transmission * sky.transparency
    fwhm_px = rig.fwhm_arcsec / scene.scale_arcsec
    width = band.width_nm / len(band.lines)
    out = {}
    for name in band.lines:
        wavelength = WAVELENGTH_NM[name]
        if name in scene.lines:
            objects = np.float32(rate) * gaussian(scene.lines[name], fwhm_px / FWHM_TO_SIGMA)
        else:
            objects = _broadband(scene, rig, name, width, rate, fwhm_px / FWHM_TO_SIGMA)
        stars = (
            continuum_rate(rig, scene.stars.ab_mag(wavelength), wavelength, width)
            * band.transmission
        )
        render_stars(
            objects, scene.stars, stars * sky.transparency, fwhm_px * _widening(scene, optics)
        )
        if optics.halo:
            thrown = stars * sky.transparency * optics.halo
            _halos(objects, scene.stars, thrown, optics.halo_arcsec / scene.scale_arcsec)
        light = float(continuum_rate(rig, sky.mag, wavelength, width)) * band.transmission
        out[name] = (objects, light * scene.scale_arcsec**2 * sky.moon_factor)
    return out


def _widening(scene: Scene, optics: Aberrations) -> np.ndarray:
    """Star width at each star over that in the middle."""
    height, width = scene.shape
    across, down = scene.stars.x / width - 0.5, scene.stars.y / height - 0.5
    return np.asarray(1 + optics.tilt[0] * across + optics.tilt[1] * down)


def _halos(plane: F32, stars: StarTable, flux: np.ndarray, radius: float) -> None:
    """Discs with a soft edge around the brightest stars, in place."""
    side = int(np.ceil(radius * 1.2))
    for n in np.argsort(flux)[::-1][:_HALOS]:
        x, y = float(stars.x[n]), float(stars.y[n])
        x0, x1 = max(int(x) - side, 0), min(int(x) + side + 1, plane.shape[1])
        y0, y1 = max(int(y) - side, 0), min(int(y) + side + 1, plane.shape[0])
        if x0 < x1 and y0 < y1:
            away = np.hypot(np.arange(x0, x1) - x, (np.arange(y0, y1) - y)[:, None])
            disc = np.clip((radius - away) / (0.12 * radius) + 0.5, 0, 1) / (np.pi * radius**2)
            plane[y0:y1, x0:x1] += (flux[n] * disc).astype(np.float32)


def light_on_plane(
    rates: dict[str, tuple[F32, float]], sky: Sky, response: Mapping[str, float] | None = None
) -> F32:
    """All light on one plane, e-/s/pixel, with the sky's gradient."""
    shape = next(iter(rates.values()))[0].shape
    total, background = np.zeros(shape, np.float32), 0.0
    for name, (objects, light) in rates.items():
        answer = 1.0 if response is None else float(response.get(name, 0.0))
        total += np.float32(answer) * objects
        background += answer * light
    gx = np.linspace(-0.5, 0.5, shape[1], dtype=np.float32) * np.float32(sky.gradient[0])
    gy = np.linspace(-0.5, 0.5, shape[0], dtype=np.float32) * np.float32(sky.gradient[1])
    uneven = 1 + gy[:, None] + gx[None, :]
    if sky.bend:
        y, x = (np.linspace(-1, 1, n, dtype=np.float32) for n in shape)
        uneven = uneven + np.float32(sky.bend / 2) * (x[None, :] ** 2 + y[:, None] ** 2)
    return (total + np.float32(background) * uneven).astype(np.float32)


def _broadband(scene: Scene, rig: Rig, name: str, width: float, rate: float, sigma: float) -> F32:
    """Continuum glow and the lines that fall into a broad band."""
    inside = {
        "R": ("Ha", "S2"),
        "G": ("O3",),
        "B": ("Hb", "O3"),
        "L": ("Ha", "O3", "S2", "Hb"),
        "C": ("Ha", "O3"),
    }
    total = np.zeros(scene.shape, np.float32)
    for line in inside.get(name, ()):
        total += scene.lines[line]
    glow = scene.continuum.get(name)
    if glow is None:
        glow = np.mean(list(scene.continuum.values()), axis=0, dtype=np.float32)
    per_unit = float(continuum_rate(rig, 22.0, WAVELENGTH_NM[name], width)) * scene.scale_arcsec**2
    return gaussian(
        (np.float32(rate) * total + np.float32(per_unit) * glow).astype(np.float32), sigma
    )


def render_stars(
    plane: F32, stars: StarTable, flux: np.ndarray, fwhm_px: float | np.ndarray, beta: float = _BETA
) -> None:
    """Add Moffat stars of total ``flux`` (any unit) to ``plane`` in place; ``fwhm_px`` of all, or
    of each.
    """
    if not flux.size:
        return
    wide = np.broadcast_to(np.asarray(fwhm_px, np.float64), flux.shape)
    faintest = max(float(np.quantile(flux, 0.02)), 1e-30)
    alpha = wide / (2 * np.sqrt(2 ** (1 / beta) - 1))
    peak = flux * (beta - 1) / (np.pi * alpha**2)
    bright = np.maximum(flux / faintest, 1) ** (1 / (2 * beta))
    reach = np.clip(4 * wide * bright + 2, 6, 90).astype(np.int64)
    of_stars = (plane, stars.x, stars.y, peak.astype(np.float32), alpha.astype(np.float32), reach)
    loop = _STARS.get()
    if loop is None:
        _stars_by_boxes(*of_stars, beta)
    else:
        furthest = float(((reach + 1) / alpha).max()) * np.sqrt(2)
        loop(*of_stars, _profile(beta, int(furthest) + 2), _FINE)


@lru_cache(maxsize=8)
def _profile(beta: float, furthest: int) -> F32:
    """(1 + r^2)^-beta at so many steps of each r up to the ``furthest``."""
    away = np.arange(furthest * _FINE + 2) / _FINE
    return np.asarray((1 + away**2) ** -beta, np.float32)


def _stars_by_boxes(
    plane: F32, x: F32, y: F32, peak: F32, alpha: F32, reach: NDArray[np.int64], beta: float
) -> None:
    """Add profiles peak (1 + (r / alpha)^2)^-beta out to so many pixels, star by star."""
    height, width = plane.shape
    for n in range(len(x)):
        x0, x1 = max(int(x[n]) - reach[n], 0), min(int(x[n]) + reach[n] + 1, width)
        y0, y1 = max(int(y[n]) - reach[n], 0), min(int(y[n]) + reach[n] + 1, height)
        if x0 >= x1 or y0 >= y1:
            continue
        dx2 = (np.arange(x0, x1, dtype=np.float32) - x[n]) ** 2
        dy2 = (np.arange(y0, y1, dtype=np.float32) - y[n]) ** 2
        profile = 1 + (dx2[None, :] + dy2[:, None]) / (alpha[n] * alpha[n])
        plane[y0:y1, x0:x1] += peak[n] * profile ** np.float32(-beta)


def _stars_loop(
    plane: F32,
    x: F32,
    y: F32,
    peak: F32,
    alpha: F32,
    reach: NDArray[np.int64],
    profile: F32,
    fine: int,
) -> None:
    """The same, of a ``profile`` at ``fine`` steps of each r / alpha."""
    height, width = plane.shape
    for n in range(len(x)):
        x0, x1 = max(int(x[n]) - reach[n], 0), min(int(x[n]) + reach[n] + 1, width)
        y0, y1 = max(int(y[n]) - reach[n], 0), min(int(y[n]) + reach[n] + 1, height)
        steps = np.float32(fine) / alpha[n]
        for row in range(y0, y1):
            down = (np.float32(row) - y[n]) * (np.float32(row) - y[n])
            for column in range(x0, x1):
                across = np.float32(column) - x[n]
                at = np.sqrt(across * across + down) * steps
                low = int(at)
                share = at - np.float32(low)
                light = profile[low] + share * (profile[low + 1] - profile[low])
                plane[row, column] += peak[n] * light


_STARS: Final = Compiled(_stars_loop)


def expose(light: F32, rig: Rig, subs: int, sub_s: float, rng: np.random.Generator) -> F32:
    """Mean of ``subs`` exposures of ``sub_s`` seconds to ``light`` (e-/s/pixel), as a share of full
    well.

    Clipped at the top, any shape in, the same shape out.
    """
    signal = (light + np.float32(rig.dark_e_s)) * np.float32(sub_s)
    kept = np.minimum(signal, rig.full_well_e)
    electrons = counted(kept * np.float32(subs), rig.read_noise_e * subs**0.5, rng)
    mean = electrons / np.float32(subs)
    return np.asarray(
        np.where(signal >= rig.full_well_e, rig.full_well_e, mean) / rig.full_well_e, np.float32
    )


def mono_stack(
    scene: Scene,
    rig: Rig,
    band: Filter,
    sky: Sky,
    subs: int,
    sub_s: float,
    rng: np.random.Generator,
    optics: Aberrations = PERFECT,
) -> F32:
    """A mono stack (H, W), 0 to 1 of full well."""
    return expose(
        light_on_plane(band_rates(scene, rig, band, sky, optics), sky), rig, subs, sub_s, rng
    )


def colour_stack(
    scene: Scene,
    rig: Rig,
    band: Filter,
    sky: Sky,
    subs: int,
    sub_s: float,
    response: Response,
    rng: np.random.Generator,
    progress: Progress = SILENT,
    optics: Aberrations = PERFECT,
) -> F32:
    """A debayered colour stack (3, H, W), 0 to 1 of full well.

    Four groups of subs, dithered by one pixel, are each sampled through an RGGB mosaic,
    interpolated within their own colour (bilinear) and averaged, so the noise is smooth as in a
    real debayered stack.
    """
    broad = band.lines in (("L",), ("C",))
    if broad:  # the filters on the sensor part the light
        band = replace(band, lines=COLOURS)
    rates = band_rates(scene, rig, band, sky, optics)
    groups = [g.size for g in np.array_split(np.arange(subs), 4) if g.size]
    stack = np.zeros((3, *scene.shape), np.float32)
    for index, name in enumerate("RGB"):
        light = light_on_plane(rates, sky, BROAD_RESPONSE[name] if broad else response[name])
        for number, size in enumerate(groups):
            progress.step((index + number / len(groups)) / 3, f"exposing {band.name}")
            sampled = np.zeros(scene.shape, np.float32)
            for lattice in bayer_lattices(name, *divmod(number, 2)):
                sampled[lattice] = expose(light[lattice], rig, size, sub_s, rng)
            stack[index] += _bilinear(sampled, name) * np.float32(size / subs)
    return stack


def bayer_lattices(colour: str, dy: int = 0, dx: int = 0) -> list[tuple[slice, slice]]:
    """Where an RGGB mosaic, moved by (dy, dx), sees ``colour``: every other pixel of every other
    row.
    """
    starts = {"R": ((0, 0),), "G": ((0, 1), (1, 0)), "B": ((1, 1),)}[colour]
    return [(slice((y + dy) % 2, None, 2), slice((x + dx) % 2, None, 2)) for y, x in starts]


def bayer_sites(shape: tuple[int, int], colour: str, dy: int = 0, dx: int = 0) -> NDArray[np.bool_]:
    """The same as a mask of ``shape``."""
    sites = np.zeros(shape, bool)
    for lattice in bayer_lattices(colour, dy, dx):
        sites[lattice] = True
    return sites


_BETWEEN: Final = {
    "G": np.array([[0, 1, 0], [1, 4, 1], [0, 1, 0]], np.float32) / 4,
    "R": np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]], np.float32) / 4,
}
"""Weights that keep a colour where a mosaic sees it and draw it linearly between; red and blue lie
alike.
"""


def _bilinear(sampled: F32, colour: str) -> F32:
    """A colour everywhere, where ``sampled`` holds it on its sites and 0 elsewhere."""
    kernel = _BETWEEN["G" if colour == "G" else "R"]
    out = cv2.filter2D(sampled, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101)
    return np.asarray(out, np.float32)

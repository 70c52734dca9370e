"""The demos: what three stations gathered on an invented nebula and an invented galaxy, with the
truth beside it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from ..model.channel import filter_name
from ..model.planes import F32, Header
from ..model.progress import SILENT, Progress
from ..model.rig import FILTERS, SITES, Rig
from ..numerics.robust import step_sigma
from .camera import PERFECT, Aberrations, Response, Sky, colour_stack, mono_stack
from .galaxy import GalaxyRecipe, make_galaxy
from .grid import Grid
from .scene import Scene, SceneRecipe, make_scene

SHAPE: Final = (1070, 1600)
SCALE_ARCSEC: Final = 2.64
SEED: Final = 12
CANVAS: Final = (1460, 2060)  # holds all fields
_BEACONS: Final = ((0.31, 0.27, 4.6), (0.66, 0.71, 5.2), (0.72, 0.33, 5.6), (0.42, 0.73, 5.9))


@dataclass(frozen=True)
class DemoStack:
    """One stack of a demo: who, through what, how long, under which sky; ``trail`` is a satellite's
    light in the stack, in sigma of its noise, ``fwhm_arcsec`` the seeing where it was not the rig's
    usual one, ``note`` tells two stacks of one filter apart.
    """

    station: str
    band: str
    subs: int
    sub_s: float
    moon_factor: float = 1.0
    transparency: float = 1.0
    gradient: tuple[float, float] = (0.03, 0.02)
    bend: float = 0.0
    optics: Aberrations = PERFECT
    trail: float = 0.0
    fwhm_arcsec: float = 0.0
    note: str = ""

    @property
    def file(self) -> str:
        """Its file name."""
        note = f"_{self.note}" if self.note else ""
        return f"{self.station}_{self.band.replace('+', '_')}{note}.fits"

    @property
    def seconds(self) -> float:
        """Exposure of all subs together, s."""
        return self.subs * self.sub_s

    @property
    def sky(self) -> Sky:
        """The sky over it."""
        return Sky(
            SITES[self.station].sky_mag,
            self.moon_factor,
            self.transparency,
            self.gradient,
            self.bend,
        )

    def rig(self, rig: Rig) -> Rig:
        """The rig on those nights."""
        return replace(rig, fwhm_arcsec=self.fwhm_arcsec) if self.fwhm_arcsec else rig


GRIDS: Final = {
    "Ridge": Grid(SHAPE, SCALE_ARCSEC),
    "Balcony": Grid((1420, 1960), 1.994, -7.3, True, (1.1, -0.6)),
    "Shed": Grid((930, 1330), 3.667, 3.6, False, (-1.2, 1.0), 0.0015),
}
"""How the demo's stations see the target. Balcony's mirror turns the picture over, and its stacks
were shrunk to half; its field holds the nebula but not all of Ridge's. Shed's lens sees more, and
bends it.
"""

_TILTED: Final = Aberrations(tilt=(0.16, 0.10), halo=0.003, halo_arcsec=70.0)
STACKS: Final = (
    DemoStack("Ridge", "Ha", 76, 300, 1.15),
    DemoStack("Ridge", "O3", 45, 300, 1.05, optics=Aberrations(halo=0.004, halo_arcsec=85.0)),
    DemoStack("Ridge", "S2", 36, 300, 1.10),
    DemoStack("Balcony", "Ha+O3", 60, 300, 1.3, 0.88, (0.16, -0.10), 0.07, _TILTED),
    DemoStack("Balcony", "O3+S2", 52, 300, 1.5, 0.82, (-0.12, 0.14), 0.05, _TILTED),
    DemoStack("Shed", "O3", 24, 300, 6.0, 0.62, (0.20, 0.12), 0.10, trail=14.0),
    DemoStack("Shed", "R", 35, 60, gradient=(0.05, 0.03)),
    DemoStack("Shed", "G", 35, 60, gradient=(0.05, 0.03)),
    DemoStack("Shed", "B", 30, 60, gradient=(0.06, 0.04)),
)


def demo_scene(shape: tuple[int, int] = SHAPE) -> Scene:
    """The nebula's sky; on a smaller grid the nebula shrinks with it, the stars keep their
    width.
    """
    shrink = min(shape[1] / SHAPE[1], 1.0)
    half = SceneRecipe().half_size_arcmin
    return make_scene(
        shape,
        SCALE_ARCSEC,
        SEED,
        SceneRecipe(
            half_size_arcmin=(half[0] * shrink, half[1] * shrink),
            beacons=_BEACONS if shrink == 1 else (),
        ),
    )


_GALAXY_SHAPE: Final = (960, 1360)
_GALAXY_SCALE: Final = 1.5
_GOOD: Final = 3.4
"""Seeing on the winter nights of the galaxy, arcsec."""


def galaxy_scene(shape: tuple[int, int] = _GALAXY_SHAPE) -> Scene:
    """The galaxy's sky; on a smaller grid the galaxy shrinks with it."""
    shrink = min(shape[1] / _GALAXY_SHAPE[1], 1.0)
    size = GalaxyRecipe().size_arcmin
    recipe = GalaxyRecipe(
        size_arcmin=(size[0] * shrink, size[1] * shrink),
        beacons=((0.16, 0.78, 7.4), (0.88, 0.24, 8.0)) if shrink == 1 else (),
    )
    return make_galaxy(shape, _GALAXY_SCALE, 27, recipe)


@dataclass(frozen=True)
class Demo:
    """A demo: its target with J2000 place, when its stacks were ended, and what was gathered.
    ``canvas`` is the sky that holds all fields.
    """

    id: str
    target: str
    name: str
    ra_deg: float
    dec_deg: float
    date_utc: str
    end_utc: str
    seed: int
    canvas: tuple[int, int]
    scene: Callable[[tuple[int, int]], Scene]
    grids: Mapping[str, Grid]
    stacks: tuple[DemoStack, ...]


NEBULA: Final = Demo(
    "nebula",
    "DEMO 12",
    "Weaverbird Nebula",
    171.0,
    -59.0 - 10 / 60,
    "2027-02-12T09:00:00",
    "2027-03-10T18:00:00",
    SEED,
    CANVAS,
    demo_scene,
    GRIDS,
    STACKS,
)
GALAXY: Final = Demo(
    "galaxy",
    "DEMO 27",
    "Lantern Spiral",
    317.0,
    -47.5,
    "2027-08-05T09:00:00",
    "2027-08-27T18:00:00",
    27,
    (1180, 1640),
    galaxy_scene,
    {
        "Ridge": Grid(_GALAXY_SHAPE, _GALAXY_SCALE),
        "Balcony": Grid((1040, 1480), 1.34, 4.1, True, (0.4, -0.3)),
    },
    (
        DemoStack("Ridge", "L", 36, 300, fwhm_arcsec=_GOOD),
        DemoStack("Ridge", "L", 30, 20, fwhm_arcsec=_GOOD, note="short"),
        DemoStack("Ridge", "R", 30, 180, fwhm_arcsec=_GOOD + 0.2),
        DemoStack("Ridge", "G", 30, 180, fwhm_arcsec=_GOOD + 0.1),
        DemoStack("Ridge", "B", 36, 180, fwhm_arcsec=_GOOD + 0.4),
        DemoStack(
            "Balcony", "L", 150, 60, 1.0, 0.85, (0.16, -0.10), 0.05, _TILTED, fwhm_arcsec=4.4
        ),
        DemoStack(
            "Balcony", "Ha+O3+Hb", 72, 300, 5.0, 0.8, (-0.10, 0.12), 0.04, _TILTED, fwhm_arcsec=4.6
        ),
    ),
)
DEMOS: Final = {d.id: d for d in (NEBULA, GALAXY)}
TARGET: Final = NEBULA.target
TARGET_NAME: Final = NEBULA.name


def simulate_stack(
    scene: Scene,
    rig: Rig,
    band: str,
    sky: Sky,
    subs: int,
    sub_s: float,
    response: Response,
    rng: np.random.Generator,
    progress: Progress = SILENT,
    optics: Aberrations = PERFECT,
) -> F32:
    """A stack of any rig: (H, W) mono, (3, H, W) colour; 0 to 1 of full well."""
    chosen = FILTERS[band]
    if rig.colour:
        return colour_stack(scene, rig, chosen, sky, subs, sub_s, response, rng, progress, optics)
    return mono_stack(scene, rig, chosen, sky, subs, sub_s, rng, optics)


def stack_header(
    rig: Rig,
    station: str,
    band: str,
    subs: int,
    sub_s: float,
    scale_arcsec: float,
    shape: tuple[int, int],
    upright: bool = True,
    demo: Demo = NEBULA,
) -> Header:
    """Header of a simulated stack: pixel size as resampled to ``scale_arcsec``; WCS on the target
    where the frame stands upright on it, none elsewhere.
    """
    pixel = scale_arcsec * rig.focal_mm / 206.265
    step = scale_arcsec / 3600
    wcs = (
        ("CTYPE1", "RA---TAN"),
        ("CTYPE2", "DEC--TAN"),
        ("CRVAL1", demo.ra_deg),
        ("CRVAL2", demo.dec_deg),
        ("CRPIX1", (shape[1] + 1) / 2),
        ("CRPIX2", (shape[0] + 1) / 2),
        ("CDELT1", -step),
        ("CDELT2", step),
        ("ROWORDER", "TOP-DOWN"),
    )
    return Header(
        filter=filter_name(band),
        exposure_s=sub_s,
        total_s=subs * sub_s,
        subs=subs,
        camera=rig.name,
        station=station,
        object_name=demo.target,
        date_utc=demo.date_utc,
        end_utc=demo.end_utc,
        pixel_um=round(pixel, 4),
        focal_mm=rig.focal_mm,
        saturation=1.0,
        history=("Simulated by Bichromus from a fixed seed",),
        wcs=wcs if upright else (),
    )


def add_trail(data: F32, sigma: float, rng: np.random.Generator) -> None:
    """A satellite that all rejection overlooked: a straight line, three pixels wide, in place."""
    height, width = data.shape
    noise = step_sigma(data[::3, ::3])
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    slope, at = rng.uniform(0.3, 0.5), rng.uniform(0.25, 0.35) * height
    away = (y - at - slope * x) / np.hypot(1, slope)
    data += np.float32(sigma * noise) * np.exp(-((away / 1.3) ** 2))

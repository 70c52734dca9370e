"""The demo: what three stations gathered on one invented nebula, with the truth beside it."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np

from ..extract.response import load_response
from ..files.fits_out import write_fits
from ..model.channel import filter_name
from ..model.planes import F32, Header
from ..model.progress import SILENT, Progress
from ..model.rig import FILTERS, RIGS, SITES, Rig
from .camera import Response, Sky, colour_stack, line_rate, mono_stack
from .scene import Scene, SceneRecipe, make_scene

TARGET: Final = "DEMO 12"
TARGET_NAME: Final = "Weaverbird Nebula"
SHAPE: Final = (1070, 1600)
SCALE_ARCSEC: Final = 2.64
SEED: Final = 12
_RA_DEG, _DEC_DEG = 171.0, -59.0 - 10 / 60


@dataclass(frozen=True)
class DemoStack:
    """One stack of the demo: who, through what, how long, under which sky."""

    station: str
    band: str
    subs: int
    sub_s: float
    moon_factor: float = 1.0
    transparency: float = 1.0
    gradient: tuple[float, float] = (0.03, 0.02)

    @property
    def file(self) -> str:
        return f"{self.station}_{self.band.replace('+', '_')}.fits"

    @property
    def seconds(self) -> float:
        return self.subs * self.sub_s


STACKS: Final = (
    DemoStack("Ridge", "Ha", 76, 300, 1.15),
    DemoStack("Ridge", "O3", 108, 300, 1.05),
    DemoStack("Ridge", "S2", 96, 300, 1.10),
    DemoStack("Ridge", "R", 35, 60),
    DemoStack("Ridge", "G", 35, 60),
    DemoStack("Ridge", "B", 30, 60),
    DemoStack("Balcony", "Ha+O3", 60, 300, 1.3, 0.88, (0.10, -0.06)),
    DemoStack("Balcony", "O3+S2", 52, 300, 1.5, 0.82, (-0.07, 0.08)),
)


def simulate_stack(scene: Scene, rig: Rig, band: str, sky: Sky, subs: int, sub_s: float, response: Response,
                   rng: np.random.Generator, progress: Progress = SILENT) -> F32:
    """A stack of any rig: (H, W) mono, (3, H, W) colour; 0 to 1 of full well."""
    chosen = FILTERS[band]
    if rig.colour:
        return colour_stack(scene, rig, chosen, sky, subs, sub_s, response, rng, progress)
    return mono_stack(scene, rig, chosen, sky, subs, sub_s, rng)


def stack_header(rig: Rig, station: str, band: str, subs: int, sub_s: float, scale_arcsec: float,
                 shape: tuple[int, int]) -> Header:
    """Header of a simulated stack: pixel size as resampled to ``scale_arcsec``, WCS on the target."""
    pixel = scale_arcsec * rig.focal_mm / 206.265
    step = scale_arcsec / 3600
    wcs = (("CTYPE1", "RA---TAN"), ("CTYPE2", "DEC--TAN"), ("CRVAL1", _RA_DEG), ("CRVAL2", _DEC_DEG),
           ("CRPIX1", (shape[1] + 1) / 2), ("CRPIX2", (shape[0] + 1) / 2), ("CDELT1", -step), ("CDELT2", step),
           ("ROWORDER", "TOP-DOWN"))
    return Header(filter=filter_name(band), exposure_s=sub_s, total_s=subs * sub_s, subs=subs, camera=rig.name,
                  station=station, object_name=TARGET, date_utc="2027-03-17T09:00:00", pixel_um=round(pixel, 4),
                  focal_mm=rig.focal_mm, saturation=1.0, debayer="bilinear" if rig.colour else None,
                  history=("Simulated by Bichromus from a fixed seed",), wcs=wcs)


def demo_scene(shape: tuple[int, int] = SHAPE) -> Scene:
    """The demo's sky; on a smaller grid the nebula shrinks with it, the stars keep their width."""
    shrink = shape[1] / SHAPE[1]
    half = SceneRecipe().half_size_arcmin
    return make_scene(shape, SCALE_ARCSEC, SEED, SceneRecipe(half_size_arcmin=(half[0] * shrink, half[1] * shrink)))


def write_demo(folder: Path, shape: tuple[int, int] = SHAPE, progress: Progress = SILENT,
               overwrite: bool = True) -> list[Path]:
    """Write the demo's stacks and ``truth/`` (lines in rayleigh, truth.json) into ``folder``; their paths."""
    folder.mkdir(exist_ok=True)
    (folder / "truth").mkdir(exist_ok=True)
    progress.step(0.0, "imagining the nebula")
    scale = SCALE_ARCSEC
    scene = demo_scene(shape)
    table = load_response("generic").table
    paths = []
    for number, stack in enumerate(STACKS):
        part = progress.part(0.15 + 0.8 * number / len(STACKS), 0.15 + 0.8 * (number + 1) / len(STACKS))
        part.step(0.0, f"exposing {stack.station} {stack.band}")
        rig = RIGS[stack.station]
        sky = Sky(SITES[stack.station].sky_mag, stack.moon_factor, stack.transparency, stack.gradient)
        data = simulate_stack(scene, rig, stack.band, sky, stack.subs, stack.sub_s, table,
                              np.random.default_rng([SEED, number]), part)
        header = stack_header(rig, stack.station, stack.band, stack.subs, stack.sub_s, scale, shape)
        write_fits(folder / stack.file, data, header, overwrite=overwrite)
        paths.append(folder / stack.file)
    progress.step(0.96, "keeping the truth")
    _write_truth(folder / "truth", scene, table, overwrite)
    return paths


def _write_truth(folder: Path, scene: Scene, table: Response, overwrite: bool) -> None:
    for name, plane in scene.lines.items():
        header = Header(filter=filter_name(name), object_name=TARGET)
        write_fits(folder / f"{name}_rayleigh.fits", plane, header, overwrite=overwrite, more={"BUNIT": "rayleigh"})
    stars = scene.stars
    facts = {
        "target": TARGET, "name": TARGET_NAME, "scale_arcsec": scene.scale_arcsec, "response": table,
        "stacks": [{"file": s.file, "station": s.station, "band": s.band, "subs": s.subs, "sub_s": s.sub_s,
                    "transparency": s.transparency, "fwhm_px": RIGS[s.station].fwhm_arcsec / scene.scale_arcsec,
                    "share_of_full_well_per_rayleigh": line_rate(RIGS[s.station], scene.scale_arcsec)
                    * FILTERS[s.band].transmission * s.transparency * s.sub_s / RIGS[s.station].full_well_e}
                   for s in STACKS],
        "stars": {"x": _list(stars.x), "y": _list(stars.y), "ab_mag": _list(stars.mag)},
    }
    (folder / "truth.json").write_text(json.dumps(facts) + "\n", "utf-8")


def _list(values: F32) -> list[float]:
    return [round(float(v), 3) for v in values]



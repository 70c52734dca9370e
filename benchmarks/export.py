"""Export of a 26-megapixel blend of three channels, FITS in, 16-bit TIFF out, against plain
whole-array NumPy.
"""

from __future__ import annotations

import json
import resource
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

import numpy as np

from bichromus.core.blend import Blender
from bichromus.core.blend.compose import compose, figures_of
from bichromus.core.blend.render import Renderer
from bichromus.core.blend.sources import HalfSource, PlaneSource, RowSource
from bichromus.core.files import FORMATS, write_fits, write_picture
from bichromus.core.files.astropy_fits import astropy_fits
from bichromus.core.files.fits_in import raw_rows
from bichromus.core.measure import find_stars
from bichromus.core.model.measures import Surface
from bichromus.core.model.planes import Header
from bichromus.core.model.recipe import BlendFigures, CleanFigures, Recipe, StarFigures
from bichromus.core.model.settings import BlendSettings, Colour
from bichromus.core.numerics.pixel_loops import make_ready

from .common import Result, apart, measure, over, plane

SHAPE = (4176, 6248)
NAMES = ("Ha", "O3", "S2")
_STARRY = 0.97  # all but so many pixels hold no light of a star


def recipe() -> Recipe:
    figures = BlendFigures(channels={n: figures_of(measure(SHAPE, n), Header()) for n in NAMES})
    return compose(
        BlendSettings(balance=0.3, balance_auto=False, colour=Colour(star_colour=1.0)), figures
    )


def ours(folder: Path, out: Path) -> None:
    made = recipe()
    flat = Surface(0.0, 0.0, 0.0, SHAPE[1], SHAPE[0])
    sources: dict[str, PlaneSource] = {}
    for name in made.settings.used():
        rows = raw_rows(folder / f"{name}.fits")
        assert rows is not None
        sources[name] = RowSource(partial(_rows, rows), flat, find_stars, name)
    bands = Renderer(sources, SHAPE).bands(made, SHAPE, "uint16")
    write_picture(out, FORMATS["tiff16"], bands, SHAPE, {}, overwrite=True)


def everything(folder: Path, out: Path) -> None:
    """The same with stars put back, a luminance, two masks and clean lifting."""
    flat = Surface(0.0, 0.0, 0.0, SHAPE[1], SHAPE[0])
    rows = {n: raw_rows(folder / f"{n}.fits") for n in NAMES}
    sources: dict[str, PlaneSource] = {
        n: RowSource(partial(_rows, r), flat, find_stars, n)
        for n, r in rows.items()
        if r is not None
    }
    fine = np.load(folder / "fine.npy", mmap_mode="r")
    coarse = np.zeros((SHAPE[0] // 2, SHAPE[1] // 2), np.float32)
    removable: dict[str, tuple[PlaneSource, PlaneSource]] = {
        n: (RowSource(partial(_rows, fine), flat, find_stars, f"{n} f"), HalfSource(coarse, n))
        for n in NAMES
    }
    sky = np.load(folder / "stars.npy", mmap_mode="r")
    stars = [RowSource(partial(_rows, sky), flat, find_stars, f"stars {c}") for c in "RGB"]
    figures = {
        n: figures_of(measure(SHAPE, n), Header()).model_copy(update={"starless": True})
        for n in NAMES
    }
    clean = CleanFigures(pixel=(0.9, 0.05, 0.9, 0.05, 0), blurred=(0.2, 0.6, 0.2, 0.6, 0.1))
    told = StarFigures(source="lines", level=30.0, top=90.0, sigma=3.0)
    settings = BlendSettings.model_validate(
        {
            "balance": 0.3,
            "balance_auto": False,
            "cleaning": {"auto": False, "amount": 0.5},
            "luminance": {"source": "synthetic"},
            "masks": [
                {"channel": "Ha", "level": {"low": 10, "soft": 4}, "lightness": 0.2},
                {"area": [{"x": 900, "y": 900, "radius": 300}], "chroma": 0.3},
            ],
        }
    )
    made = compose(
        settings,
        BlendFigures(channels=figures, stars={"lines": told}, cleaning=dict.fromkeys(NAMES, clean)),
    )
    driver = Renderer(sources, SHAPE, sources, {"lines": stars}, removable)
    bands = driver.bands(made, SHAPE, "uint16")
    write_picture(out, FORMATS["tiff16"], bands, SHAPE, {}, overwrite=True)


def _rows(stored: np.ndarray, y0: int, y1: int) -> np.ndarray:
    return stored[y0:y1]


def plain(folder: Path, out: Path) -> None:
    """The same arithmetic as a person would write it, on whole arrays."""
    import tifffile

    blender = Blender(recipe())
    s, curve = blender.settings.stretch, blender.curve
    levels = []
    for name in blender.names:
        data = astropy_fits().getdata(folder / f"{name}.fits").astype(np.float32)
        x = data * np.float32(blender.levels.gains[name])
        f = s.background + (s.signal - s.background) * np.arcsinh(x * s.strength) / np.arcsinh(
            s.strength
        )
        a = (curve.top - s.shoulder) / (1 - s.shoulder)
        u = np.clip((f - s.shoulder) / (curve.top - s.shoulder), 0, None)
        held = s.shoulder + (1 - s.shoulder) * a * u / (1 + (a - 1) * u)
        levels.append(np.where((f > s.shoulder) & (curve.top > 1), held, f) - s.background)
    stack = np.stack(levels)
    code = np.clip(np.tensordot(blender._mix, stack, 1) + s.background, 0, 1)
    light = np.where(code <= 0.04045, code / 12.92, ((code + 0.055) / 1.055) ** 2.4)
    to_lms = np.array(
        [
            [0.4122214708, 0.5363325363, 0.0514459929],
            [0.2119034982, 0.6806995451, 0.1073969566],
            [0.0883024619, 0.2817188376, 0.6299787005],
        ],
        np.float32,
    )
    lms = np.cbrt(np.tensordot(to_lms, light, 1))
    to_lab = np.array(
        [
            [0.2104542553, 0.7936177850, -0.0040720468],
            [1.9779984951, -2.4285922050, 0.4505937099],
            [0.0259040371, 0.7827717662, -0.8086757660],
        ],
        np.float32,
    )
    lab = np.tensordot(to_lab, lms, 1)
    hue, half = np.deg2rad(142.5), np.deg2rad(35.0)
    g = lab[1] * np.cos(hue) + lab[2] * np.sin(hue)
    p = lab[2] * np.cos(hue) - lab[1] * np.sin(hue)
    e = np.maximum(g - np.abs(p) / np.tan(half), 0)
    e = blender.settings.colour.limit_green * e * e / (e + 0.01)
    lab[1] -= e * np.cos(hue)
    lab[2] -= e * np.sin(hue)
    root = np.tensordot(np.linalg.inv(to_lab).astype(np.float32), lab, 1)
    light = np.tensordot(np.linalg.inv(to_lms), root**3, 1)
    grey = np.clip(lab[0], 0, 1) ** 3
    high, low = light.max(0), light.min(0)
    share = np.clip(
        np.minimum(
            np.where(high > 1, (1 - grey) / np.maximum(high - grey, 1e-9), 1),
            np.where(low < 0, grey / np.maximum(grey - low, 1e-9), 1),
        ),
        0,
        1,
    )
    light = np.clip(grey + (light - grey) * share, 0, 1)
    code = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)
    tifffile.imwrite(
        out, np.moveaxis((code * 65535 + 0.5).astype(np.uint16), 0, -1), photometric="rgb"
    )


def moved(folder: Path, out: Path) -> None:
    """Nothing but the same bytes read and written."""
    import tifffile

    planes = [np.fromfile(folder / f"{name}.fits", np.uint8) for name in NAMES]
    picture = planes[0][: 6 * SHAPE[0] * SHAPE[1] // 2].repeat(2).view(np.uint16)
    tifffile.imwrite(out, picture.reshape(*SHAPE, 3), photometric="rgb")


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for seed, channel in enumerate(NAMES):
            write_fits(folder / f"{channel}.fits", plane(SHAPE, seed), Header())
        few = np.random.default_rng(9).random(SHAPE, dtype=np.float32) > _STARRY
        np.save(folder / "stars.npy", few * np.float32(60))
        np.save(folder / "fine.npy", plane(SHAPE, 0))
        found = {}
        for way in ("ours", "everything", "plain", "moved", "nothing"):
            runs = [apart("benchmarks.export", way, folder) for _ in range(2)]
            found[way] = min(r["seconds"] for r in runs), min(r["megabytes"] for r in runs)
        base = found["nothing"][1]
        different = int(np.abs(_read(folder / "ours.tiff") - _read(folder / "plain.tiff")).max())
    time_ratio = found["ours"][0] / found["plain"][0]
    memory_ratio = (found["ours"][1] - base) / (found["plain"][1] - base)
    return [
        Result(
            "export 26 Mpx, time over plain NumPy",
            time_ratio,
            0.7,
            seconds=found["ours"][0],
            limit_s=10,
            beside=f"plain {found['plain'][0]:.1f} s",
        ),
        over(
            "export 26 Mpx, over reading and writing the same",
            found["ours"][0],
            found["moved"][0],
            2.5,
            10,
        ),
        Result(
            "export 26 Mpx, peak memory over plain NumPy",
            memory_ratio,
            0.25,
            beside=f"{found['ours'][1] - base:.0f} MB against {found['plain'][1] - base:.0f} MB",
        ),
        Result(
            "export 26 Mpx with stars, luminance, two masks and cleaning, over the plain blend",
            found["everything"][0] / found["ours"][0],
            2.8,
        ),
        Result("export 26 Mpx, largest difference between the two", different, 24, "/65535"),
    ]


def _read(path: Path) -> np.ndarray:
    import tifffile

    return np.asarray(tifffile.imread(path)[::7, ::7]).astype(int)


def main() -> None:
    way, folder = sys.argv[1], Path(sys.argv[2])
    if way in ("ours", "everything"):
        make_ready()  # as it is in the open program, which has read files
        astropy_fits()
    begun = time.perf_counter()
    if way != "nothing":
        ways = {"ours": ours, "everything": everything, "plain": plain, "moved": moved}
        ways[way](folder, folder / f"{way}.tiff")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"seconds": time.perf_counter() - begun, "megabytes": peak}))


if __name__ == "__main__":
    main()

"""Every form that is read: a good file of it, and what reads it."""

from __future__ import annotations

import gzip
import json
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from bichromus.core.blend.compose import compose
from bichromus.core.extract.response import load_response
from bichromus.core.files import read_picture, write_fits
from bichromus.core.files.finished import read_finished
from bichromus.core.files.sub_header import read_sub
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header
from bichromus.core.model.recipe import BlendFigures, ChannelFigures, load_recipe
from bichromus.core.model.settings import BlendSettings
from bichromus.core.model.spellings import read_own
from bichromus.core.plan.horizon import read_horizon
from bichromus.core.simulate.forecast import read_forecast
from bichromus.workspace.channels.cache import load_prepared
from bichromus.workspace.library.files import read_things, save_things
from bichromus.workspace.library.settings import Settings
from bichromus.workspace.library.things import PlanState
from bichromus.workspace.log.contribution import read_contribution
from bichromus.workspace.log.typed_runs import read_table
from bichromus.workspace.project.document import Document

from .entry import make_entry


@dataclass(frozen=True)
class Form:
    """``make`` writes a good file of that name into a folder, ``read`` reads it."""

    name: str
    file: str
    make: Callable[[Path], None]
    read: Callable[[Path], object]


def _plane() -> np.ndarray:
    return np.random.default_rng(3).normal(0.1, 0.01, (80, 96)).astype(np.float32)


def _fits(path: Path) -> None:
    header = Header(filter=filter_name("Ha"), exposure_s=300.0, subs=12)
    write_fits(path, _plane(), header)


def _packed(make: Callable[[Path], None]) -> Callable[[Path], None]:
    def make_packed(path: Path) -> None:
        plain = path.with_name("plain.fits")
        make(plain)
        path.write_bytes(gzip.compress(plain.read_bytes(), 6, mtime=0))
        plain.unlink()

    return make_packed


def _sub_file(path: Path) -> None:
    from astropy.io import fits

    cards = {"DATE-OBS": "2025-01-21T21:14:08", "EXPTIME": 300.0, "FILTER": "H", "OBJECT": "Field"}
    header = fits.Header(list({**cards, "OBSERVER": "Ridge", "GAIN": 100}.items()))
    fits.writeto(path, (_plane() * 60000).astype(np.uint16), header, overwrite=True)


def _compressed(path: Path) -> None:
    from astropy.io import fits

    whole = fits.CompImageHDU((_plane() * 60000).astype(np.int16), compression_type="RICE_1")
    fits.HDUList([fits.PrimaryHDU(), whole]).writeto(path)


def _colours() -> np.ndarray:
    return (np.clip(np.stack([_plane()] * 3, 2), 0, 1) * 255).astype(np.uint8)


def _tiff(path: Path) -> None:
    import tifffile

    tifffile.imwrite(path, (_plane() * 60000).astype(np.uint16), compression="zlib")


def _as_picture(path: Path) -> None:
    Image.fromarray(_colours()).save(path)


def _png(path: Path) -> None:
    cv2.imwrite(str(path), (np.stack([_plane()] * 3, 2) * 60000).astype(np.uint16))


def _sub(path: Path) -> object:
    _, header, why = read_sub(path)
    if header is None and not why:
        raise AssertionError("a sub without header and without a reason")
    return why


def _recipe(path: Path) -> None:
    figures = {
        n: ChannelFigures(
            shape=(80, 96), signal=s, sigma_px=0.01, sigma_eff=0.02, hours=h, snr=30.0
        )
        for n, s, h in (("Ha", 1.0, 8.0), ("O3", 0.3, 9.0), ("S2", 0.1, 3.0))
    }
    recipe = compose(BlendSettings(), BlendFigures(channels=figures))
    path.write_text(recipe.dump(), "utf-8")


def _things(path: Path) -> None:
    save_things(PlanState(), path)


def _settings(path: Path) -> object:
    """As the program finds them at its start."""
    folder = path.parent / "config" / "bichromus"
    folder.mkdir(parents=True, exist_ok=True)
    shutil.copy(path, folder / "settings.json")
    os.environ["XDG_CONFIG_HOME"] = str(folder.parent)
    settings = Settings()
    if settings.fault is not None:
        raise settings.fault
    return [settings.get(k) for k in ("theme", "recent", "geometry", "cache_gb")]


def _text(words: str) -> Callable[[Path], None]:
    def make(path: Path) -> None:
        path.write_text(words, "utf-8")

    return make


def _typed(path: Path) -> object:
    rows, faults = read_table(path.read_bytes().decode("utf-8", "replace"))
    if not rows and faults:
        raise faults[0]
    return rows


def _project(path: Path) -> None:
    folder = path.with_name("made.bichromus")
    Document(folder, "fuzzed").close()
    shutil.copy(folder / "project.db", path)
    shutil.rmtree(folder)


def _open_project(path: Path) -> object:
    folder = path.with_name("opened.bichromus")
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    shutil.copy(path, folder / "project.db")
    document = Document(folder)
    try:
        return document.state
    finally:
        document.close()


def _entry(name: str) -> tuple[Callable[[Path], None], Callable[[Path], object]]:
    """A file of the cache: damaged it counts as absent, whatever it holds."""

    def make(path: Path) -> None:
        cache = path.with_name("cache")
        key = make_entry(cache)
        shutil.copy(cache / key / name, path)

    def read(path: Path) -> object:
        cache = path.with_name("cache")
        (key,) = (p.name for p in cache.iterdir())
        shutil.copy(path, cache / key / name)
        return load_prepared(cache, key)

    return make, read


_TYPED = "night,channel,seconds,kept\n2025-01-21,Ha,300,40\n2025-01-22,O3,300,36\n"
_RESPONSE = "plane,Ha,O3,S2\nR,0.9,0.02,0.85\nG,0.1,0.8,0.1\nB,0.03,0.7,0.02\n"
_HORIZON = "azimuth_deg,altitude_deg\n0,10\n90,25\n180,12\n270,30\n"
_FORECAST = "time_utc,cloud\n2025-01-21T20:00:00Z,0.1\n2025-01-21T21:00:00Z,0.2\n"
_MANIFEST = json.dumps({"kind": "bichromus-contribution", "station": "Ridge"})

FORMS: tuple[Form, ...] = (
    Form("FITS", "a.fits", _fits, read_picture),
    Form("FITS, packed", "a.fits.gz", _packed(_fits), read_picture),
    Form("FITS, compressed", "c.fits", _compressed, read_picture),
    Form("TIFF", "a.tiff", _tiff, read_picture),
    Form("PNG", "a.png", _png, read_picture),
    Form("PNG, finished", "f.png", _as_picture, read_finished),
    Form("JPEG, finished", "f.jpg", _as_picture, read_finished),
    Form("TIFF, finished", "f.tiff", _tiff, read_finished),
    Form("sub", "s.fits", _sub_file, _sub),
    Form("sub, packed", "s.fits.gz", _packed(_sub_file), _sub),
    Form("recipe", "recipe.json", _recipe, load_recipe),
    Form("things", "things.json", _things, read_things),
    Form("manifest", "contribution.json", _text(_MANIFEST), lambda p: read_contribution(p.parent)),
    Form("settings", "settings.json", _text('{"theme": "dusk", "recent": []}'), _settings),
    Form("typed runs", "runs.csv", _text(_TYPED), _typed),
    Form("response", "response.csv", _text(_RESPONSE), load_response),
    Form("horizon", "horizon.csv", _text(_HORIZON), read_horizon),
    Form("forecast", "forecast.csv", _text(_FORECAST), read_forecast),
    Form("spellings", "spellings.csv", _text("Ha-strange,Ha\nsix,O3+S2\n"), read_own),
    Form("project", "project.db", _project, _open_project),
    Form("cache, plane", "level0.npy", *_entry("level0.npy")),
    Form("cache, facts", "facts.json", *_entry("facts.json")),
)

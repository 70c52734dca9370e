"""``blend``: the picture."""

from __future__ import annotations

import argparse
import hashlib
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from .. import __version__
from ..core.advise import advise_blend
from ..core.blend import Blender, predict_noise
from ..core.blend.compose import compose, figures_of
from ..core.blend.mappings import named_mappings
from ..core.blend.render import Clipped, PlaneSource, Renderer, RowSource
from ..core.files import FORMATS, blend_header, format_of, read_fits_header, write_picture
from ..core.files.atomic import check_output, write_text
from ..core.files.fits_in import raw_rows
from ..core.measure import find_stars, measure_channels
from ..core.model.errors import InputError
from ..core.model.measures import Surface
from ..core.model.planes import Picture
from ..core.model.recipe import BlendSettings, ChannelFigures, Recipe, load_recipe
from .common import (
    add_common,
    done,
    named_file,
    print_json,
    read_channels,
    table,
    terminal_progress,
)


def register(verbs: Any) -> None:
    """The verb blend."""
    parser = verbs.add_parser("blend", help="channels into one colour picture")
    parser.add_argument(
        "--channel", action="append", default=[], required=True, metavar="NAME=FILE"
    )
    parser.add_argument(
        "--mapping",
        metavar="ID",
        help=f"{', '.join(named_mappings())}, or free: R=S2,G=0.8*Ha+0.2*O3,B=O3",
    )
    parser.add_argument("--balance", metavar="auto|0..1", help="0 colour, 1 clean (default: auto)")
    parser.add_argument("--recipe", metavar="FILE", help="take the settings of a saved recipe")
    parser.add_argument("--save-recipe", metavar="FILE", help="write the recipe here as well")
    parser.add_argument("--out", required=True, metavar="FILE", help=".tiff, .png, .jpg or .fits")
    parser.add_argument(
        "--float", action="store_true", help="32-bit float instead of 16 bits in a TIFF"
    )
    parser.add_argument("--overwrite", action="store_true", help="replace outputs that exist")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Blend channels into a picture."""
    given = load_recipe(Path(options.recipe)) if options.recipe else None
    settings = _settings(options, given)
    files = dict(named_file(item) for item in options.channel)
    out = check_output(Path(options.out), options.overwrite, files.values())
    chosen = format_of(out)
    if options.float and chosen.id == "tiff16":
        chosen = FORMATS["tiff32"]
    if options.save_recipe:
        check_output(Path(options.save_recipe), options.overwrite, files.values())
    progress = terminal_progress()
    known = _known(given, files)
    pictures: dict[str, Picture] = {} if known else read_channels(options.channel)
    figures = known or _measured(pictures, files, progress.part(0, 0.5))
    recipe = compose(settings, figures, f"bichromus {__version__}")
    blender = Blender(recipe)
    renderer = _renderer(recipe, files, pictures)
    shape, clipped = renderer.shape, Clipped()
    bands = renderer.bands(recipe, shape, chosen.dtype, progress.part(0.5, 1), clipped=clipped)
    name, file = next(iter(files.items()))
    first = blend_header(pictures[name].header if pictures else read_fits_header(file))
    write_picture(
        out, chosen, bands, shape, recipe.model_dump(), options.overwrite, files.values(), first
    )
    if options.save_recipe:
        write_text(Path(options.save_recipe), recipe.dump(), options.overwrite)
    done()
    _report(
        options, recipe, blender, out, clipped, [w for p in pictures.values() for w in p.warnings]
    )


def _settings(options: argparse.Namespace, given: Recipe | None) -> BlendSettings:
    settings = given.settings if given else BlendSettings()
    if options.mapping:
        settings = settings.model_copy(update={"mapping": options.mapping})
    elif not given:
        raise InputError(
            "No mapping is given", do="Add --mapping, for example --mapping bicolour-shared"
        )
    if options.balance is None:
        return settings
    if options.balance == "auto":
        return settings.model_copy(update={"balance_auto": True})
    try:
        value = float(options.balance)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 1:
        raise InputError(
            f"The balance {options.balance!r} cannot be used",
            do="Give auto, or a number from 0 to 1",
        )
    return settings.model_copy(update={"balance": value, "balance_auto": False})


def file_hash(path: Path) -> str:
    """SHA-256 of a file's bytes."""
    with open(path, "rb") as handle:
        return hashlib.file_digest(handle, "sha256").hexdigest()


def _known(given: Recipe | None, files: dict[str, Path]) -> dict[str, ChannelFigures]:
    """The recipe's own figures when every file is the very one it was made for and can be read in
    place.
    """
    if given is None or set(files) != set(given.channels):
        return {}
    for name, path in files.items():
        figures = given.channels[name]
        if (
            not figures.hash
            or not path.is_file()
            or raw_rows(path) is None
            or file_hash(path) != figures.hash
        ):
            return {}
    return dict(given.channels)


def _measured(
    pictures: dict[str, Picture], files: dict[str, Path], progress: Any
) -> dict[str, ChannelFigures]:
    measures = measure_channels(pictures, progress)
    return {
        n: figures_of(m, pictures[n].header, str(files[n].absolute()), file_hash(files[n]))
        for n, m in measures.items()
    }


def _renderer(recipe: Recipe, files: dict[str, Path], pictures: dict[str, Picture]) -> Renderer:
    sources: dict[str, PlaneSource] = {}
    height, width = next(iter(recipe.channels.values())).shape
    for name in recipe.settings.used():
        stored = pictures[name].data if name in pictures else raw_rows(files[name])
        assert stored is not None
        a, bx, by = recipe.channels[name].background
        surface = Surface(a, bx, by, width, height)
        sources[name] = RowSource(partial(_rows, stored), surface, find_stars, name)
    return Renderer(sources, (height, width))


def _rows(stored: np.ndarray, y0: int, y1: int) -> np.ndarray:
    return stored[y0:y1]


def _report(
    options: argparse.Namespace,
    recipe: Recipe,
    blender: Blender,
    out: Path,
    clipped: Clipped,
    warnings: list[str],
) -> None:
    noise = predict_noise(recipe)
    advice = advise_blend(recipe)
    warnings += [
        f"{n} shows no signal above its noise and gets no weight." for n in blender.levels.silent
    ]
    names = list(blender.names)
    result = {
        "out": out,
        "mapping": recipe.settings.mapping,
        "balance": recipe.settings.balance,
        "gains": {n: blender.levels.gains[n] for n in names},
        "lift": {n: blender.levels.lift(n) for n in names},
        "noise": noise.outputs,
        "noise_lightness": noise.lightness,
        "noise_chroma": noise.chroma,
        "clipped": {"low": clipped.low, "high": clipped.high},
        "advice": advice.sentence if advice else None,
        "warnings": warnings,
    }
    if options.json:
        print_json(result)
        return
    print(
        table(
            ("channel", "signal", "noise", "SNR", "gain", "share of full level"),
            [
                (
                    n,
                    recipe.channels[n].signal,
                    recipe.channels[n].sigma_px,
                    recipe.channels[n].snr,
                    blender.levels.gains[n],
                    f"{100 * blender.levels.lift(n):.0f} %",
                )
                for n in names
            ],
        )
    )
    print(
        f"balance {recipe.settings.balance:.2f}, predicted noise "
        + ", ".join(f"{k} {100 * v:.1f} %" for k, v in noise.outputs.items())
    )
    for line in ([advice.sentence] if advice else []) + [f"note: {w}" for w in warnings]:
        print(line)
    print(f"written: {out}")

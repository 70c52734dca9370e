"""``blend``: the picture."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from .. import __version__
from ..core.advise import advise_blend
from ..core.blend import Blender, predict_noise
from ..core.blend.compose import compose
from ..core.blend.inputs import green_by_loudness, kept_stars, puts_stars_back
from ..core.blend.pixels import Clipped
from ..core.blend.render import Renderer
from ..core.clean.star_sets import sources_of
from ..core.files import (
    FORMATS,
    blend_header,
    format_of,
    read_fits_header,
    recipe_beside,
    write_picture,
)
from ..core.files.atomic import atomic, check_output, write_text
from ..core.model.channel import COLOURS
from ..core.model.errors import InputError
from ..core.model.planes import Header
from ..core.model.progress import Progress
from ..core.model.recipe import Recipe, load_recipe
from ..core.model.settings import BlendSettings
from .blend_options import add_options, blend_settings
from .blend_planes import BlendPlanes, known_renderer, read_planes, tells_of
from .common import named_file
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb blend."""
    parser = verbs.add_parser("blend")
    add_options(parser)
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
    settings = blend_settings(options, given)
    files = dict(named_file(item) for item in options.channel)
    inputs = [*files.values(), *(named_file(item)[1] for item in options.stars)]
    out = check_output(Path(options.out), options.overwrite, inputs)
    check_output(recipe_beside(out), options.overwrite)
    chosen = format_of(out)
    if options.float and chosen.id == "tiff16":
        chosen = FORMATS["tiff32"]
    if options.save_recipe:
        check_output(Path(options.save_recipe), options.overwrite, inputs)
    progress = terminal_progress()
    recipe, renderer, planes = _made(options, settings, given, files, progress.part(0, 0.6))
    blender = Blender(recipe)
    shape, clipped = renderer.shape_of(recipe), Clipped()
    bands = renderer.bands(recipe, shape, chosen.dtype, progress.part(0.6, 1), clipped=clipped)
    name, file = next(iter(files.items()))
    first = blend_header(planes.channels[name].header if planes else read_fits_header(file))
    if renderer.placement(recipe) is not None:
        first = Header()  # cut or turned, it no longer lies where its stacks say
    with atomic(recipe_beside(out), options.overwrite) as beside:  # both, or none of them
        beside.write_text(recipe.dump(), "utf-8")
        write_picture(
            out, chosen, bands, shape, recipe.model_dump(), options.overwrite, inputs, first
        )
    if options.save_recipe:
        write_text(Path(options.save_recipe), recipe.dump(), options.overwrite)
    done()
    _report(options, blender, out, clipped, shape, _warnings(blender, planes, options))


def _made(
    options: argparse.Namespace,
    settings: BlendSettings,
    given: Recipe | None,
    files: dict[str, Path],
    progress: Progress,
) -> tuple[Recipe, Renderer, BlendPlanes | None]:
    """The recipe and what renders it; the planes where they had to be measured."""
    made_by = f"bichromus {__version__}"
    layers = options.stars or options.split
    if given is not None and not layers and settings.same_figures(given.settings):
        known = known_renderer(given, files)
        if known is not None:
            return compose(settings, given.figures, made_by), known, None
    planes = read_planes(options.channel, options.stars, options.split, progress.part(0, 0.6))
    figures = planes.measure(settings, progress.part(0.6, 1))
    if given is not None and settings.same_figures(given.settings):
        figures = given.figures if tells_of(given.figures, figures) else figures
    recipe = compose(settings, figures, made_by)
    given_too = options.star_source in sources_of(planes.layers)
    if given_too and kept_stars(recipe):
        still = [n for n in recipe.settings.used() if not recipe.channels[n].starless]
        raise InputError(
            f"The stars from {_source_words(options.star_source)} cannot be put back",
            why=f"{', '.join(still)} still {'holds its' if len(still) == 1 else 'hold their'} own",
            do="Split them off by --split, or give their star layers by --stars",
        )
    if settings.stars.source in ("rgb", "lines") and not recipe.star_set():
        raise InputError(
            f"There are no stars from {_source_words(settings.stars.source)} to put back",
            why="their star layers are not there",
            do="Give them by --stars, or split them by --split",
        )
    return recipe, planes.renderer(recipe.channels), planes


def _source_words(source: str) -> str:
    return "R, G and B" if source == "rgb" else "the lines"


def _warnings(
    blender: Blender, planes: BlendPlanes | None, options: argparse.Namespace
) -> list[str]:
    recipe = blender.recipe
    found = [w for p in planes.channels.values() for w in p.warnings] if planes else []
    found += planes.warnings if planes else []
    found += [
        f"{n} shows no signal above its noise and gets no weight." for n in blender.levels.silent
    ]
    used = [recipe.channels[n] for n in recipe.settings.used()]
    if kept_stars(recipe) and (options.stars or any(f.starless for f in used)):
        still = [n for n in recipe.settings.used() if not recipe.channels[n].starless]
        found.append(
            f"{', '.join(still)} came without a star layer, so stars stay where they are and none "
            "are put back."
        )
    if (
        options.clean is not None
        and recipe.settings.cleaning.amount > 0
        and not any(f.starless for f in used)
    ):
        found.append(
            "No noise was taken off: that needs starless channels. Add --split, or give their "
            "star layers by --stars."
        )
    found += _outside(recipe)
    white = recipe.figures.white
    if set(COLOURS) & set(recipe.settings.mixed()) and white.error is not None:
        if white.stars < _ENOUGH_STARS:
            found.append(
                f"The white rests on {white.stars} stars and may be off by "
                f"{100 * white.error:.1f} %."
            )
    elif set(COLOURS) <= set(recipe.settings.mixed()) and recipe.settings.white.by == "stars":
        found.append("Too few stars tell the white: red, green and blue stand as they came.")
    return found


_ENOUGH_STARS = 80


def _outside(recipe: Recipe) -> list[str]:
    crop, (height, width) = recipe.settings.finish.crop, next(iter(recipe.channels.values())).shape
    if crop is None or (crop[0] >= 0 and crop[1] >= 0 and crop[2] <= width and crop[3] <= height):
        return []
    return [f"The crop lies partly outside the picture of {width} x {height} pixels and was cut."]


def _report(
    options: argparse.Namespace,
    blender: Blender,
    out: Path,
    clipped: Clipped,
    shape: tuple[int, int],
    warnings: list[str],
) -> None:
    recipe = blender.recipe
    noise = predict_noise(recipe)
    advice = advise_blend(recipe)
    names = list(recipe.settings.mixed())
    if options.json:
        print_json(_result(blender, noise.outputs, out, clipped, shape, advice, warnings))
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
    say(
        f"balance {recipe.settings.balance:.2f}, predicted noise "
        + ", ".join(f"{k} {100 * v:.1f} %" for k, v in noise.outputs.items())
    )
    for line in ([advice.sentence] if advice else []) + [f"note: {w}" for w in warnings]:
        say(line)
    say(f"written: {out}")


def _result(
    blender: Blender,
    outputs: dict[str, float],
    out: Path,
    clipped: Clipped,
    shape: tuple[int, int],
    advice: Any,
    warnings: list[str],
) -> dict[str, Any]:
    recipe, settings = blender.recipe, blender.settings
    noise, names = predict_noise(recipe), list(settings.mixed())
    white, stars = recipe.figures.white, recipe.star_set()
    shared = "green_share" if green_by_loudness(recipe) else settings.mapping
    height, width = shape
    return {
        "out": out,
        "mapping": settings.mapping,
        "balance": settings.balance,
        "gains": {n: blender.levels.gains[n] for n in names},
        "lift": {n: blender.levels.lift(n) for n in names},
        "noise": outputs,
        "noise_lightness": noise.lightness,
        "noise_chroma": noise.chroma,
        "clipped": {"low": clipped.low, "high": clipped.high},
        "white": {
            **dict(zip(COLOURS, white.gains, strict=True)),
            "stars_used": white.stars,
            "error": white.error,
        }
        if set(COLOURS) <= set(recipe.channels)
        else None,
        "stars": {
            "source": stars.source if stars and puts_stars_back(recipe) else "none",
            "layers": list(stars.made_of) if stars else [],
        }
        if not kept_stars(recipe)
        else {"source": "kept", "layers": []},
        "luminance": {
            "source": settings.luminance.source,
            "amount": settings.luminance.amount,
        },
        "cleaned": {
            n: {
                "fine": c.fine,
                "coarse": c.coarse,
                "noise_left_px": c.left_px,
                "noise_left_4px": c.left_4px,
            }
            for n, c in recipe.cleaned.items()
        },
        "green_share": settings.green_share
        if shared == "green_share" or settings.mapping == "bicolour-shared"
        else None,
        "size": [width, height],
        "advice": advice.sentence if advice else None,
        "warnings": warnings,
    }

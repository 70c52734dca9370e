"""``clean``: gradient, continuum and stars taken off."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ..core.clean.continuum import find_continuum
from ..core.clean.gradient import find_gradient
from ..core.clean.split import split_stars
from ..core.files import read_picture, write_fits
from ..core.files.atomic import check_output
from ..core.measure.run import check_same_shape
from ..core.model.errors import InputError
from .common import mono, named_file
from .parser import add_common
from .telling import done, print_json, say, terminal_progress


def register(verbs: Any) -> None:
    """The verb clean."""
    parser = verbs.add_parser("clean")
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--out", required=True, metavar="FILE")
    parser.add_argument("--gradient", action="store_true", help="take the sky's gradient off")
    parser.add_argument(
        "--degree", type=int, metavar="N", help="degree of the gradient, 0 to 4 (default: chosen)"
    )
    parser.add_argument("--model", metavar="FILE", help="write the gradient's model here")
    parser.add_argument("--continuum", metavar="R=FILE", help="a broadband stack on the same grid")
    parser.add_argument(
        "--stars",
        metavar="FILE",
        help="split the stars off; their layer goes here, the rest to --out",
    )
    parser.add_argument(
        "--star-layer", metavar="FILE", help="take off a layer of stars that was made elsewhere"
    )
    parser.add_argument("--overwrite", action="store_true")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Take gradient, continuum or stars off a channel."""
    if not (options.gradient or options.continuum or options.stars or options.star_layer):
        raise InputError(
            "There is nothing to clean",
            do="Ask for --gradient, --continuum, --stars or --star-layer",
        )
    if not options.gradient and (options.degree is not None or options.model):
        asked = "--degree" if options.degree is not None else "--model"
        raise InputError(f"{asked} is for a gradient", do="Ask for --gradient as well")
    if options.stars and options.star_layer:
        raise InputError("The stars can be split off only once", do="Give --stars or --star-layer")
    inputs = [Path(options.file)]
    broad = named_file(options.continuum)[1] if options.continuum else None
    inputs += [broad] if broad else []
    inputs += [Path(options.star_layer)] if options.star_layer else []
    out = check_output(Path(options.out), options.overwrite, inputs)
    model_out = (
        check_output(Path(options.model), options.overwrite, inputs) if options.model else None
    )
    stars_out = (
        check_output(Path(options.stars), options.overwrite, inputs) if options.stars else None
    )
    progress = terminal_progress()
    picture = mono(read_picture(inputs[0]))
    result: dict[str, Any] = {
        "out": out,
        "gradient": None,
        "continuum": None,
        "stars": None,
        "warnings": [],
    }
    history: list[str] = []
    result["warnings"] += picture.warnings
    if options.gradient:
        progress.step(0.1, "finding the gradient")
        found = find_gradient(picture, options.degree)
        if model_out is not None:
            write_fits(
                model_out,
                found.model.rows(0, picture.shape[0]),
                picture.header,
                ["Model of the gradient"],
                options.overwrite,
                inputs,
            )
        picture = replace(picture, data=found.take_off(picture.data))
        result["gradient"] = {
            "degree": found.degree,
            "before_sigma": found.before_sigma,
            "after_sigma": found.after_sigma,
            "sky_share": float(found.tiles.used.mean()),
        }
        result["warnings"] += found.warnings
        history.append(
            f"Gradient of degree {found.degree} taken off, {found.before_sigma:.1f} sigma "
            "peak to peak"
        )
    if broad is not None:
        progress.step(0.5, "finding the continuum")
        other = mono(read_picture(broad))
        made = find_continuum(picture, other)
        picture = replace(picture, data=made.take_off(picture.data, other.data))
        result["continuum"] = {"k": made.k, "k_error": made.error, "stars_used": made.stars}
        result["warnings"] += made.warnings
        history.append(f"Continuum taken off: {made.k:.5g} of {broad.name}")
    if stars_out is not None:
        progress.step(0.6, "finding stars")
        split = split_stars(picture, progress.part(0.6, 0.95))
        picture = replace(picture, data=split.starless)
        write_fits(
            stars_out,
            split.stars,
            picture.header,
            [*history, "The layer of the stars"],
            options.overwrite,
            inputs,
        )
        result["stars"] = {
            "file": stars_out,
            "count": split.count,
            "masked_fraction": split.masked_fraction,
            "residual": split.residual,
            "rest_sigma": split.rest_sigma,
        }
        history.append(
            f"{split.count} stars split off, {100 * split.masked_fraction:.2f} % filled in"
        )
    if options.star_layer:
        layer = mono(read_picture(Path(options.star_layer)))
        check_same_shape(((inputs[0].name, picture), (Path(options.star_layer).name, layer)))
        picture = replace(picture, data=picture.data - np.nan_to_num(layer.data))
        result["stars"] = {
            "file": Path(options.star_layer).absolute(),
            "count": None,
            "masked_fraction": float((layer.data != 0).mean()),
        }
        history.append(f"The stars of {Path(options.star_layer).name} taken off")
    write_fits(out, picture.data, picture.header, history, options.overwrite, inputs)
    done()
    if options.json:
        print_json(result)
        return
    for line in history:
        say(line)
    say(str(out))
    for warning in result["warnings"]:
        say(f"note: {warning}")

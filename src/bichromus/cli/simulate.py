"""``simulate``: a stack of any rig, sky and hours, and the truth."""

from __future__ import annotations

import argparse
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np

from ..core.extract import load_response
from ..core.files import write_fits
from ..core.files.atomic import check_output
from ..core.model.errors import InputError, UnknownName
from ..core.model.json_text import parse_json
from ..core.model.rig import FILTERS, RIGS, SITES, Rig
from ..core.model.text_file import read_text
from ..core.simulate.camera import Sky
from ..core.simulate.demo import simulate_stack, stack_header
from ..core.simulate.scene import make_scene
from .angles import positive
from .common import size
from .parser import add_common
from .telling import done, print_json, say, terminal_progress


def register(verbs: Any) -> None:
    """The verb simulate."""
    parser = verbs.add_parser("simulate")
    parser.add_argument(
        "--rig", default="Ridge", metavar="NAME|JSON", help=f"{', '.join(RIGS)}, or a JSON file"
    )
    parser.add_argument("--filter", required=True, help=", ".join(FILTERS))
    parser.add_argument("--subs", type=int, default=60)
    parser.add_argument("--sub-s", type=positive, default=300.0)
    parser.add_argument(
        "--sky-ab", type=positive, metavar="MAG", help="AB mag/arcsec2 (default: the station's)"
    )
    parser.add_argument(
        "--moon-factor", type=positive, default=1.0, metavar="X", help="sky brightness times this"
    )
    parser.add_argument("--transparency", type=positive, default=1.0, metavar="X")
    parser.add_argument(
        "--gradient", type=float, default=0.0, metavar="X", help="share of the sky across the frame"
    )
    parser.add_argument("--size", default="1600x1070", metavar="WxH")
    parser.add_argument("--scale-arcsec", type=positive, default=2.64, metavar="X")
    parser.add_argument("--response", default="generic", metavar="NAME|CSV")
    parser.add_argument("--scene-seed", type=int, default=12)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--out", required=True, metavar="FILE")
    parser.add_argument(
        "--truth", metavar="FILE", help="write the line's brightness in rayleigh here"
    )
    parser.add_argument("--overwrite", action="store_true")
    add_common(parser)
    parser.set_defaults(run=run)


def _rig(text: str) -> Rig:
    if text in RIGS:
        return RIGS[text]
    if not text.endswith(".json"):
        raise UnknownName(f"No rig is called {text!r}", do=f"Use {', '.join(RIGS)} or a JSON file")
    try:
        raw = parse_json(read_text(Path(text)))
        if not isinstance(raw, dict):
            raise TypeError("not an object")
        rig = Rig(**raw)
        numbers = [getattr(rig, f.name) for f in fields(Rig) if f.type == "float"]
        if (
            not all(isinstance(n, (int, float)) and n >= 0 for n in numbers)
            or min(rig.aperture_mm, rig.focal_mm, rig.pixel_um, rig.full_well_e, rig.fwhm_arcsec)
            <= 0
        ):
            raise ValueError("a number is missing, negative or zero")
        if rig.obstruction >= 1:
            raise ValueError("the obstruction must be below 1")
    except (OSError, ValueError, TypeError) as error:
        raise InputError(
            "The rig cannot be used",
            why=str(error).splitlines()[0],
            do=f"Its keys are {', '.join(f.name for f in fields(Rig))}",
            file=text,
        ) from error
    return rig


def run(options: argparse.Namespace) -> None:
    """Make a stack of the invented sky."""
    if options.filter not in FILTERS:
        raise UnknownName(
            f"No filter is called {options.filter!r}", do=f"Use one of {', '.join(FILTERS)}"
        )
    if not 1 <= options.subs <= 100_000 or options.transparency > 1:
        raise InputError(
            "These exposures cannot be", do="Give at least one sub, and a transparency up to 1"
        )
    rig, shape = _rig(options.rig), size(options.size)
    out = check_output(Path(options.out), options.overwrite)
    station = SITES.get(options.rig, SITES["Ridge"])
    sky = Sky(
        options.sky_ab or station.sky_mag,
        options.moon_factor,
        options.transparency,
        (options.gradient, options.gradient / 2),
    )
    progress = terminal_progress()
    scene = make_scene(shape, options.scale_arcsec, options.scene_seed)
    data = simulate_stack(
        scene,
        rig,
        options.filter,
        sky,
        options.subs,
        options.sub_s,
        load_response(options.response).table,
        np.random.default_rng(options.seed),
        progress,
    )
    header = stack_header(
        rig, station.name, options.filter, options.subs, options.sub_s, options.scale_arcsec, shape
    )
    write_fits(out, data, header, overwrite=options.overwrite)
    if options.truth:
        lines = [n for n in FILTERS[options.filter].lines if n in scene.lines]
        if not lines:
            raise InputError(
                f"The filter {options.filter} passes no line to keep the truth of",
                do="Leave --truth out",
            )
        truth = (
            np.stack([scene.lines[n] for n in lines]) if len(lines) > 1 else scene.lines[lines[0]]
        )
        write_fits(
            Path(options.truth),
            truth,
            header,
            overwrite=options.overwrite,
            more={"BUNIT": "rayleigh"},
        )
    done()
    facts = {
        "out": out,
        "rig": rig.name,
        "filter": options.filter,
        "hours": options.subs * options.sub_s / 3600,
        "scale_arcsec": options.scale_arcsec,
        "shape": list(shape),
        "fwhm_px": rig.fwhm_arcsec / options.scale_arcsec,
    }
    if options.json:
        print_json(facts)
    else:
        say(f"{rig.name}, {options.filter}, {facts['hours']:.1f} h: {out}")

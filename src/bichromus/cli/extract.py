"""``extract``: lines out of colour stacks."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import Any

from ..core.extract import ColourStack, extract_lines, load_response
from ..core.files import read_picture, write_fits
from ..core.files.atomic import check_output
from ..core.model.channel import filter_name, line_list
from ..core.model.errors import InputError
from .common import output_folder
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb extract."""
    parser = verbs.add_parser("extract")
    parser.add_argument(
        "--stack",
        action="append",
        default=[],
        required=True,
        metavar="FILE:Ha+O3",
        help="a colour stack or mosaic and the lines its filter passes; may be given again",
    )
    parser.add_argument(
        "--bayer", metavar="RGGB", help="pattern of mosaics whose header does not say it"
    )
    parser.add_argument(
        "--response",
        default="generic",
        metavar="NAME|CSV",
        help="sensor response (default: generic)",
    )
    parser.add_argument("--out", required=True, metavar="DIR", help="folder for the lines")
    parser.add_argument("--overwrite", action="store_true", help="replace outputs that exist")
    add_common(parser)
    parser.set_defaults(run=run)


def _stack(text: str, bayer: str | None) -> ColourStack:
    file, mark, lines = text.rpartition(":")
    if not mark or not file:
        raise InputError(f"The stack {text!r} is not clear", do="Write it as FILE:Ha+O3")
    picture = read_picture(file)
    if bayer and not picture.colour:
        picture = replace(picture, header=replace(picture.header, bayer=bayer.upper()))
    return ColourStack(picture, line_list(lines))


def run(options: argparse.Namespace) -> None:
    """Take the lines out of colour stacks."""
    response = load_response(options.response)
    stacks = [_stack(text, options.bayer) for text in options.stack]
    progress = terminal_progress()
    found = extract_lines(stacks, response, progress)
    folder = output_folder(options.out)
    inputs = [s.picture.file for s in stacks if s.picture.file]
    targets = {
        name: check_output(folder / f"{name}.fits", options.overwrite, inputs)
        for name in found.lines
    }
    lines: dict[str, Any] = {}
    for name, line in found.lines.items():
        sources = [stacks[i] for i in line.stacks]
        history = [f"{name} extracted by generalised least squares, response {response.name}"]
        history += [
            f"from {Path(s.picture.label).name} ({'+'.join(s.lines)}), weights R G B "
            + " ".join(f"{w:.4f}" for w in weights)
            for s, weights in zip(sources, line.weights, strict=True)
        ]
        total = sum(s.picture.header.total_s or 0 for s in sources) or None
        header = replace(
            sources[0].picture.header,
            filter=filter_name(name),
            saturation=None,
            bayer=None,
            total_s=total,
            subs=sum(s.picture.header.subs or 0 for s in sources) or None,
        )
        write_fits(targets[name], line.plane, header, history, options.overwrite, inputs)
        lines[name] = {
            "file": targets[name],
            "sigma_eff": line.sigma_eff,
            "snr_gain": line.snr_gain,
        }
    done()
    result = {
        "lines": lines,
        "o3_scale": found.o3_scale,
        "leaks": {
            "table": found.leaks,
            "measured": {n: m.values for n, m in found.measured.items()},
            "refused": {n: m.refused for n, m in found.measured.items()},
        },
        "warnings": list(found.warnings),
    }
    if options.json:
        print_json(result)
        return
    print(
        table(
            ("line", "noise eff", "SNR over the plain plane", "file"),
            [
                (n, v["sigma_eff"], f"{100 * (v['snr_gain'] - 1):+.0f} %", v["file"].name)
                for n, v in lines.items()
            ],
        )
    )
    if found.o3_scale is not None:
        say(
            f"second O3 at {found.o3_scale:.3f} of the first (r "
            f"{found.scales['O3'].correlation:.3f})"
        )
    for name, measured in found.measured.items():
        if measured.values:
            loud = measured.disagreement(found.leaks[name])
            words = (
                f"speak against the table ({loud[0]})" if loud else "do not speak against the table"
            )
            say(
                f"leaks of stack {name} in the data {words}: "
                + ", ".join(f"{n} at most {v:.3f}" for n, v in measured.values.items())
            )
    for warning in found.warnings:
        say(f"note: {warning}")

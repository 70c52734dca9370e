"""``measure``: noise, background, signal, SNR, stars."""

from __future__ import annotations

import argparse
from typing import Any

from ..core.files import read_picture
from ..core.measure import measure_channels, measure_plane
from ..core.model.errors import InputError
from .common import measure_json, mono, read_channels
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb measure."""
    parser = verbs.add_parser("measure")
    parser.add_argument("files", nargs="*", metavar="FILE", help="stacks, each judged for itself")
    parser.add_argument(
        "--channel",
        action="append",
        default=[],
        metavar="NAME=FILE",
        help="channels on one grid, which share star mask and signal region",
    )
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Measure channels."""
    if bool(options.files) == bool(options.channel):
        raise InputError(
            "There is nothing to measure"
            if not options.files
            else "Files and channels cannot be mixed",
            do="Give files, or channels as --channel NAME=FILE",
        )
    progress = terminal_progress()
    rows: list[dict[str, Any]] = []
    if options.channel:
        pictures = read_channels(options.channel)
        for name, measure in measure_channels(pictures, progress).items():
            rows.append(measure_json(measure, pictures[name]))
    for number, file in enumerate(options.files):
        progress.step(number / len(options.files), str(file))
        picture = mono(read_picture(file))
        known = picture.header.filter
        own_name = known.lines[0] if known and len(known.lines) == 1 else None
        rows.append(measure_json(measure_plane(picture, own_name), picture))
    done()
    if options.json:
        print_json(rows)
        return
    print(
        table(
            (
                "file",
                "channel",
                "background",
                "noise px",
                "noise eff",
                "told by",
                "signal",
                "SNR",
                "stars",
                "FWHM px",
            ),
            [
                (
                    r["file"].rsplit("/", 1)[-1],
                    r["channel"],
                    r["background"],
                    r["sigma_px"],
                    r["sigma_eff"],
                    r["sigma_eff_method"],
                    r["signal"],
                    r["snr"],
                    r["stars"]["count"],
                    r["stars"]["fwhm_px"],
                )
                for r in rows
            ],
        )
    )
    for row in rows:
        if row["field"]:
            say(f"{row['file'].rsplit('/', 1)[-1]}: {row['field']['words']}")
        for warning in row["warnings"]:
            say(f"note, {row['file'].rsplit('/', 1)[-1]}: {warning}")

"""``pool``: stacks of one channel into one."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import numpy as np

from ..core.files import read_picture, write_fits
from ..core.files.atomic import check_output
from ..core.model.planes import Header
from ..core.pool.stacks import pool, pooled_header
from .common import mono
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb pool."""
    parser = verbs.add_parser("pool")
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument("--out", required=True, metavar="FILE")
    parser.add_argument(
        "--star-power",
        type=float,
        default=0.0,
        metavar="P",
        help="weigh by star width to this power, too (default 0: best for nebula)",
    )
    parser.add_argument(
        "--rejected", metavar="FILE", help="write how many stacks were left out at each pixel here"
    )
    parser.add_argument("--overwrite", action="store_true")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Pool stacks of one channel."""
    inputs = [Path(f) for f in options.files]
    out = check_output(Path(options.out), options.overwrite, inputs)
    rejected_out = (
        check_output(Path(options.rejected), options.overwrite, inputs)
        if options.rejected
        else None
    )
    progress = terminal_progress()
    pictures = [mono(read_picture(f)) for f in inputs]
    made = pool(pictures, options.star_power, progress)
    result = pooled_header(pictures, made)
    history = [
        f"Pooled {p.label}: flux {p.flux.scale:.4f} ({p.flux.origin}), weight {p.weight:.4f}"
        for p in made.parts
    ]
    write_fits(out, result.data, result.header, history, options.overwrite, inputs)
    if rejected_out is not None:
        write_fits(
            rejected_out,
            made.rejected.astype(np.float32),
            Header(),
            ["How many stacks were left out"],
            options.overwrite,
            inputs,
        )
    done()
    frames: list[dict[str, Any]] = [
        {
            "file": f.absolute(),
            "flux_scale": p.flux.scale,
            "flux_scale_error": p.flux.error,
            "flux_from": p.flux.origin,
            "sigma_eff": p.sigma_eff,
            "weight": p.weight,
            "rejected_fraction": p.rejected,
            "snr_lost_without": p.loss,
        }
        for f, p in zip(inputs, made.parts, strict=True)
    ]
    if options.json:
        print_json(
            {
                "out": out,
                "frames": frames,
                "gain_over_best": made.together / made.alone,
                "warnings": list(made.warnings),
            }
        )
        return
    print(
        table(
            ("file", "flux", "from", "noise eff", "weight", "left out", "SNR without it"),
            [
                (
                    Path(f["file"]).name,
                    f["flux_scale"],
                    f["flux_from"],
                    f["sigma_eff"],
                    f"{100 * f['weight']:.1f} %",
                    f"{100 * f['rejected_fraction']:.3f} %",
                    f"{-100 * f['snr_lost_without']:.1f} %",
                )
                for f in frames
            ],
        )
    )
    say(f"SNR {made.together / made.alone:.2f} times that of the best alone: {out}")
    for warning in made.warnings:
        say(f"note: {warning}")

"""``plan optics``."""

from __future__ import annotations

import argparse
from typing import Any

from ..core.model.errors import InputError
from ..core.plan.optics import (
    SHAPES,
    clear_needed,
    corner_light,
    filter_shift,
    focus_shift,
    lines_of,
)
from .angles import not_negative, positive, share
from .parser import add_common
from .plan_sub import add_line, wavelength
from .telling import print_json, table


def register(parts: Any) -> None:
    """The verb plan optics."""
    parser = parts.add_parser("optics")
    parser.add_argument("--f-ratio", type=positive, required=True, metavar="N")
    parser.add_argument("--obstruction", type=share, default=0.0)
    add_line(parser)
    parser.add_argument("--bandwidth-nm", type=positive, metavar="W")
    parser.add_argument("--index", type=positive, metavar="N", help="effective index of the filter")
    parser.add_argument("--centre-nm", type=positive, metavar="C")
    parser.add_argument("--shape", choices=SHAPES, default="top-hat")
    parser.add_argument("--chief-ray-deg", type=not_negative, default=0.0)
    for name in ("--clear-mm", "--diagonal-mm", "--distance-mm", "--glass-mm"):
        parser.add_argument(name, type=not_negative)
    parser.add_argument("--glass-index", type=positive, default=1.5168)
    add_common(parser)
    parser.set_defaults(run=run)


def run(o: argparse.Namespace) -> None:
    """What a filter does in a fast beam."""
    line = wavelength(o)
    shift = None
    if (o.bandwidth_nm is None) != (o.index is None):
        raise InputError("Half of the filter is missing", do="Give both --bandwidth-nm and --index")
    if o.index is not None:
        lines = lines_of(o.line) if o.line else (line,)
        shift = filter_shift(
            o.f_ratio,
            lines,
            o.centre_nm or line,
            o.bandwidth_nm,
            o.index,
            o.obstruction,
            o.shape,
            o.chief_ray_deg,
        )
    placed = o.diagonal_mm is not None and o.distance_mm is not None
    result = {
        "edge_shift_nm": shift.edge_nm if shift else None,
        "mean_shift_nm": shift.mean_nm if shift else None,
        "transmission": shift.transmission if shift else None,
        "corner_illumination": corner_light(o.clear_mm, o.diagonal_mm, o.distance_mm, o.f_ratio)
        if placed and o.clear_mm is not None
        else None,
        "clear_needed_mm": clear_needed(o.diagonal_mm, o.distance_mm, o.f_ratio)
        if placed
        else None,
        "focus_shift_mm": focus_shift(o.glass_mm, o.glass_index)
        if o.glass_mm is not None
        else None,
    }
    if o.json:
        print_json(result)
        return
    print(table(("what", "figure"), list(result.items())))

"""``selftest``: the program's demands on itself, each with the figure that this machine finds."""

from __future__ import annotations

import argparse
import time
from typing import Any

from ..core.model.errors import InputError
from ..core.selftest import Finding, selftest
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb selftest."""
    parser = verbs.add_parser("selftest")
    parser.add_argument(
        "--seed", type=int, default=1, metavar="N", help="which skies are tried (default: 1)"
    )
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """0 when every demand is held, 1 otherwise."""
    if not 0 <= options.seed < 2**31:
        raise InputError("The seed is out of range", why=str(options.seed), do="Give 0 or more")
    began = time.monotonic()
    found = list(selftest(options.seed, terminal_progress()))
    done()
    held = all(f.held for f in found)
    if options.json:
        seconds = round(time.monotonic() - began, 1)
        print_json({"held": held, "demands": [_entry(f) for f in found], "seconds": seconds})
    else:
        print(table(("demand", "on", "figure", "wanted", ""), [_row(f) for f in found]))
        missed = sum(not f.held for f in found)
        say(f"{len(found)} demands, {missed} missed." if missed else f"{len(found)} demands held.")
    return 0 if held else 1


def _entry(found: Finding) -> dict[str, Any]:
    """A demand and what was found; ``least`` where the value is to be at least the limit."""
    return {
        "name": f"{found.what}, {found.data}" if found.data else found.what,
        "value": found.figure,
        "limit": found.limit,
        "unit": found.unit,
        "least": found.least,
        "held": found.held,
    }


def _row(found: Finding) -> tuple[str, str, str, str, str]:
    return (
        found.what,
        found.data,
        found.figure_text,
        found.limit_text,
        "held" if found.held else "missed",
    )

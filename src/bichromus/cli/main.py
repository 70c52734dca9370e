"""Parse, call, report. Exit code 0 done, 2 the input is at fault, 1 our fault."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence

from .. import __version__
from ..core.model.errors import BichromusError, Cancelled
from ..workspace.library.spellings import use_person_table
from . import (
    align,
    blend,
    clean,
    contribution,
    demo,
    extract,
    log,
    measure,
    open_project,
    plan,
    pool,
    publish,
    selftest,
    simulate,
    subs,
    versions,
)
from .common import Parser

VERBS = (
    demo,
    measure,
    extract,
    align,
    pool,
    clean,
    blend,
    subs,
    log,
    open_project,
    versions,
    publish,
    contribution,
    plan,
    simulate,
    selftest,
)


def build_parser() -> Parser:
    """All verbs."""
    parser = Parser(
        prog="bichromus",
        description="From line and colour stacks of the deep sky to one picture. "
        "Without a verb the window opens on the last project.",
    )
    parser.add_argument("--version", action="version", version=f"bichromus {__version__}")
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    for module in VERBS:
        module.register(verbs)
    return parser


def run(arguments: Sequence[str]) -> int:
    """Run one verb; the exit code."""
    debug = "--debug" in arguments
    try:
        options: argparse.Namespace = build_parser().parse_args(arguments)
        use_person_table()
        return int(options.run(options) or 0)
    except BichromusError as error:
        if debug:
            raise
        print(f"bichromus: {error.sentence()}", file=sys.stderr)
        return 2
    except (Cancelled, KeyboardInterrupt):
        print("bichromus: cancelled, nothing was written.", file=sys.stderr)
        return 2
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except MemoryError:
        print(
            "bichromus: There is not enough memory for this picture. Close other programs or "
            "work on a crop.",
            file=sys.stderr,
        )
        return 2
    except Exception as error:
        if debug:
            raise
        print(
            f"bichromus: our fault: {type(error).__name__}: {error}. Run again with --debug "
            "and report it.",
            file=sys.stderr,
        )
        return 1

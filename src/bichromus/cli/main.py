"""Parse, call, report. Exit code 0 done, 2 the input is at fault, 1 our fault."""

from __future__ import annotations

import argparse
import io
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import Final

from .. import __version__
from ..core.model.errors import BichromusError, Cancelled
from ..core.model.visible import visible
from .parser import Parser

VERBS: Final = {
    "demo": ("demo", "open a demo project in the window"),
    "measure": ("measure", "noise, background, signal, SNR and stars of stacks"),
    "extract": ("extract", "lines out of dual-band colour stacks"),
    "align": ("align", "stacks onto the grid of one of them"),
    "pool": ("pool", "stacks of one channel into one, each by its worth"),
    "clean": ("clean", "take gradient, continuum and stars off a channel"),
    "blend": ("blend", "channels into one colour picture"),
    "subs": ("subs", "grade single exposures, with the cause in words"),
    "log": ("log", "what was shot, counted once"),
    "open": ("open_project", "stacks into a project, made where it is not there"),
    "versions": ("versions", "versions of a project's picture"),
    "publish": ("publish", "pictures, summary and process record"),
    "contribution": ("contribution", "people's work pooled"),
    "plan": ("plan", "what to shoot, when, how long, and how it fits"),
    "simulate": ("simulate", "a stack from the simulator"),
    "selftest": ("selftest", "the demands of the method on this machine"),
}
"""Modules of the verbs, and what each is for: only the one that is called is imported."""


def build_parser(arguments: Sequence[str]) -> Parser:
    """All verbs by name; that of a call with all that belongs to it."""
    parser = Parser(
        prog="bichromus",
        description="From line and colour stacks of the deep sky to one picture. "
        "Without a verb the window opens on the last project.",
    )
    parser.add_argument("--version", action="version", version=f"bichromus {__version__}")
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    called = arguments[0] if arguments else ""
    for verb, (module, words) in VERBS.items():
        if verb == called:
            found = import_module(f".{module}", __package__)
            if hasattr(found, "register_called"):  # a verb of several parts
                found.register_called(verbs, arguments[1:])
            else:
                found.register(verbs)
        else:
            verbs.add_parser(verb, help=words)
    return parser


def run(arguments: Sequence[str]) -> int:
    """Run one verb; the exit code."""
    debug = "--debug" in arguments
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # a letter that a terminal lacks stops nothing
            stream.reconfigure(errors="backslashreplace")
    try:
        options: argparse.Namespace = build_parser(arguments).parse_args(arguments)
        from ..workspace.library.spellings import use_person_table  # only once a verb is called

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
            f"bichromus: our fault: {type(error).__name__}: {visible(str(error))}. "
            "Run again with --debug and report it.",
            file=sys.stderr,
        )
        return 1

"""``demo``: open the demo, or put its stacks somewhere."""

from __future__ import annotations

import argparse
from typing import Any

from ..core.model.errors import InputError
from ..core.simulate.demo import DEMOS
from ..core.simulate.demo_files import write_demo
from ..workspace.demo.project import demo_named, prepare_demo
from .common import output_folder
from .parser import add_common
from .telling import done, print_json, say, terminal_progress


def register(verbs: Any) -> None:
    """The verb demo."""
    parser = verbs.add_parser("demo")
    parser.add_argument(
        "which",
        nargs="?",
        default="nebula",
        metavar="|".join(DEMOS),
        help="which (default: nebula)",
    )
    parser.add_argument(
        "--write", metavar="DIR", help="only put its stacks and their truth into DIR"
    )
    parser.add_argument(
        "--prepare", action="store_true", help="make the demo project and open nothing"
    )
    parser.add_argument("--overwrite", action="store_true", help="replace stacks that exist")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Without --write and --prepare the window takes over before this is reached."""
    demo = demo_named(options.which)
    if options.prepare:
        progress = terminal_progress()
        folder = prepare_demo(progress, demo)
        done()
        print_json({"project": folder}) if options.json else say(str(folder))
        return
    if not options.write:
        raise InputError(
            "There is nothing to do without a window", do="Add --write DIR or --prepare"
        )
    folder = output_folder(options.write)
    progress = terminal_progress()
    paths = write_demo(folder, progress=progress, overwrite=options.overwrite, demo=demo)
    done()
    if options.json:
        print_json({"files": paths, "truth": folder / "truth"})
        return
    for path in paths:
        say(str(path))

"""``contribution``: what one person hands to another."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.model.errors import InputError
from ..workspace.handover.controller import Wanted
from ..workspace.log.contribution import Contribution
from ..workspace.session import Session
from .common import output_folder
from .parser import add_common
from .sessions import opened, told_errors
from .telling import done, print_json, say, terminal_progress


def register(verbs: Any) -> None:
    """The verbs of contributions."""
    parser = verbs.add_parser("contribution")
    parts = parser.add_subparsers(dest="part", metavar="PART", required=True)
    out = parts.add_parser("export", help="one station's part, for another to take in")
    out.add_argument("project", type=Path, metavar="PROJECT")
    out.add_argument("--out", required=True, metavar="DIR")
    out.add_argument("--station", metavar="NAME", help="whose part; needed where there are several")
    out.add_argument("--subs", action="store_true", help="its kept subs as well")
    out.add_argument("--versions", action="store_true", help="the recipes of the versions as well")
    out.add_argument(
        "--masters", action="store_true", help="the pooled channels in place of its stacks"
    )
    out.set_defaults(run=run_export)
    take = parts.add_parser("take", help="take another person's folder in")
    take.add_argument("project", type=Path, metavar="PROJECT")
    take.add_argument("folder", type=Path, metavar="DIR")
    take.set_defaults(run=run_take)
    for part in (out, take):
        add_common(part)


def run_export(options: argparse.Namespace) -> int:
    """Write a contribution."""
    folder = output_folder(options.out)
    with opened(options.project, layers=False) as session:
        station = options.station or _only_station(session)
        wanted = Wanted(station, options.subs, options.versions, options.masters)
        files = session.handover.export_now(folder, wanted, terminal_progress())
    done()
    if options.json:
        print_json({"station": station, "files": [str(f) for f in files]})
    else:
        say(f"{station}: {len(files)} files in {folder}.")
    return 0


def _only_station(session: Session) -> str:
    known = {s.contributor for s in session.log.snapshot.subs if s.contributor}
    known |= {s.station for s in session.state.sources if s.station}
    if len(known) != 1:
        raise InputError(
            "It is not clear whose part is meant",
            why=f"there are {', '.join(sorted(known)) or 'no stations'}",
            do="Say it by --station",
        )
    return known.pop()


def run_take(options: argparse.Namespace) -> int:
    """Take a contribution in."""
    found: list[Contribution] = []
    with opened(options.project, make=True) as session:
        before = {v.name for v in session.state.versions}
        with told_errors(session):
            session.handover.take(options.folder.absolute(), found.append)
        versions = [v.name for v in session.state.versions if v.name not in before]
    done()
    taken = found[0]
    result = {
        "station": taken.manifest.station,
        "runs": len(taken.runs),
        "stacks": [str(p) for p in taken.stacks],
        "versions": versions,
    }
    if options.json:
        print_json(result)
    else:
        say(
            f"{taken.manifest.station}: {len(taken.runs)} runs, {len(taken.stacks)} stacks, "
            f"{len(versions)} versions."
        )
    return 0

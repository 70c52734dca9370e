"""``log``: intake, mark, goal, totals, export."""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any

from ..core.files.atomic import check_output
from ..core.model.errors import InputError
from ..workspace.log.export import export, totals
from ..workspace.log.intake import take_in
from ..workspace.log.table import LogTable
from .angles import number
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verbs of the log."""
    parser = verbs.add_parser("log")
    parts = parser.add_subparsers(dest="part", metavar="PART", required=True)
    intake = _part(parts, "intake", "take in the subs of a folder and below", run_intake)
    intake.add_argument("folder", metavar="FOLDER")
    intake.add_argument(
        "--contributor", metavar="NAME", help="for subs whose header names no observer"
    )
    intake.add_argument(
        "--lon",
        type=number,
        metavar="DEG",
        help="longitude, east positive, where headers have none",
    )
    intake.add_argument(
        "--filter",
        action="append",
        default=[],
        metavar="TEXT=CHANNEL",
        help="what an unknown filter is",
    )
    mark = _part(parts, "mark", "keep or reject subs by hand", run_mark)
    mark.add_argument("files", nargs="+", metavar="FILE")
    which = mark.add_mutually_exclusive_group(required=True)
    which.add_argument("--reject", action="store_true")
    which.add_argument("--keep", action="store_true")
    mark.add_argument("--reason", default="", metavar="TEXT")
    goal = _part(parts, "goal", "hours wanted of channels", run_goal)
    goal.add_argument("goals", nargs="+", metavar="NAME=HOURS")
    count = _part(parts, "totals", "hours by channel, contributor and night", run_totals)
    count.add_argument("--object", metavar="NAME")
    out = _part(parts, "export", "the log as .csv, .json or .md", run_export)
    out.add_argument("--out", required=True, metavar="FILE")
    out.add_argument("--object", metavar="NAME")
    out.add_argument("--overwrite", action="store_true")


def _part(parts: Any, name: str, words: str, run: Any) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = parts.add_parser(name, help=words)
    parser.add_argument("project", metavar="PROJECT")
    add_common(parser)
    parser.set_defaults(run=run)
    return parser


@contextlib.contextmanager
def _log(options: argparse.Namespace, create: bool = False) -> Iterator[LogTable]:
    log = LogTable.open(Path(options.project), create)
    try:
        yield log
    finally:
        log.close()


def _pairs(items: list[str], form: str) -> list[tuple[str, str]]:
    out = []
    for item in items:
        name, mark, value = item.rpartition("=")
        if not mark or not name.strip() or not value.strip():
            raise InputError(f"{item!r} is not clear", do=f"Write it as {form}")
        out.append((name, value))
    return out


def run_intake(options: argparse.Namespace) -> None:
    """Take a folder of subs in."""
    filters = _pairs(options.filter, "TEXT=CHANNEL")
    folder = Path(options.folder)
    if not folder.is_dir():
        raise InputError("There is no such folder", do="Check its name and the disk", file=folder)
    progress = terminal_progress()
    with _log(options, create=True) as log:
        found = take_in(log, folder, options.contributor, options.lon, filters, progress)
    done()
    result = {**asdict(found), "broken": [{"file": f, "reason": r} for f, r in found.broken]}
    if options.json:
        print_json(result)
        return
    say(
        f"{found.files} files: {found.added} subs added, {found.duplicates} known already, "
        f"{found.not_lights} no lights, {len(found.broken)} broken"
    )
    for text, count in found.unknown_filters.items():
        say(
            f"note: {count} subs with the unknown filter {text!r}; say what it is with "
            f"--filter '{text}=Ha'"
        )
    for file, reason in found.broken[:20]:
        say(f"broken: {file}: {reason}")
    for warning in found.warnings:
        say(f"note: {warning}")


def run_mark(options: argparse.Namespace) -> None:
    """Keep or reject subs."""
    with _log(options) as log:
        count = log.mark([Path(f) for f in options.files], options.keep, options.reason)
    if options.json:
        print_json({"marked": count})
    else:
        say(f"{count} {'kept' if options.keep else 'rejected'}")


def run_goal(options: argparse.Namespace) -> None:
    """Set hours wanted."""
    goals = [(n, number_of(v)) for n, v in _pairs(options.goals, "NAME=HOURS")]
    with _log(options) as log:
        log.set_goals(goals)
        kept = log.goals()
    if options.json:
        print_json({"goals": kept})
    else:
        print(table(("channel", "hours wanted"), [(n, s / 3600) for n, s in kept.items()]))


def number_of(text: str) -> float:
    """Hours as a number. Raises InputError."""
    try:
        return number(text)
    except argparse.ArgumentTypeError as error:
        raise InputError(
            "The hours are not clear", why=str(error), do="Write it as O3=12"
        ) from error


def run_totals(options: argparse.Namespace) -> None:
    """Hours by channel, station and night."""
    with _log(options) as log:
        found = totals(log.subs(options.object), log.goals())
    if options.json:
        print_json(found)
        return
    rows = [
        (
            n,
            p["subs_kept"],
            p["seconds_kept"] / 3600,
            p["subs_rejected"],
            len(p["nights"]),
            p["goal_seconds"] / 3600 if p["goal_seconds"] else None,
        )
        for n, p in found["channels"].items()
    ]
    whole = found["total"]
    rows.append(
        (
            "all",
            whole["subs_kept"],
            whole["seconds_kept"] / 3600,
            whole["subs_rejected"],
            len(found["nights"]),
            None,
        )
    )
    print(table(("channel", "subs", "hours", "rejected", "nights", "goal h"), rows))
    for text, part in found["unassigned"].items():
        say(f"not assigned: {text}, {part['subs_kept'] + part['subs_rejected']} subs")


def run_export(options: argparse.Namespace) -> None:
    """The log as a file."""
    out = check_output(Path(options.out), options.overwrite)
    with _log(options) as log:
        subs = log.subs(options.object)
        export(out, subs, log.goals(), options.overwrite)
    if options.json:
        print_json({"out": out, "subs": len(subs)})
    else:
        say(f"{len(subs)} subs: {out}")

"""``open``: stacks into a project."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.model.errors import InputError
from ..workspace.channels.prepared import Prepared
from ..workspace.session import Session
from .parser import add_common
from .sessions import opened, wait
from .telling import done, print_json, say, table


def register(verbs: Any) -> None:
    """The verb open."""
    parser = verbs.add_parser("open")
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parser.add_argument("files", nargs="+", type=Path, metavar="FILE")
    parser.add_argument("--prepare", action="store_true", help="prepare the channels as well")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Open stacks; what cannot be used is at fault, the rest is kept."""
    project: Path = options.project
    if not project.absolute().parent.is_dir():
        raise InputError(
            "The folder above the project does not exist",
            do=f"Make {project.absolute().parent} first",
            file=project,
        )
    if options.prepare:
        return _prepared(options)
    with opened(project, make=True, layers=False) as session:
        found = _open(session, options.files)
    _told(options, {"sources": found, "warnings": []})
    return 0


def _open(session: Session, files: list[Path]) -> list[dict[str, Any]]:
    """Open files, all or none of them; the stacks of the project then."""
    errors: list[Exception] = []
    session.errors.connect(errors.extend)
    session.channels.open_files([f.absolute() for f in files])
    wait(session)
    if errors:
        raise errors[0]
    return [
        {"file": s.path, "lines": list(s.lines), "hours": s.hours, "sure": s.sure}
        for s in session.state.sources
    ]


def _prepared(options: argparse.Namespace) -> int:
    with opened(options.project, make=True, layers=False) as session:
        found = _open(session, options.files)
        channels = session.channels.snapshot
    done()
    made = {n: _channel(channels.channel(n)) for n in channels.names}
    _told(options, {"channels": made, "sources": found, "warnings": list(channels.warnings)})
    return 0


def _channel(prepared: Prepared) -> dict[str, Any]:
    return {
        "hours": prepared.hours,
        "snr": prepared.measure.snr,
        "sigma_eff": prepared.measure.noise.sigma_eff,
        "origin": prepared.label,
    }


def _told(options: argparse.Namespace, result: dict[str, Any]) -> None:
    if options.json:
        print_json(result)
        return
    print(
        table(
            ("stack", "channels", "hours"),
            [(Path(s["file"]).name, "+".join(s["lines"]), s["hours"]) for s in result["sources"]],
        )
    )
    if "channels" in result:
        rows = [
            (n, c["hours"], c["snr"], c["sigma_eff"], c["origin"])
            for n, c in result["channels"].items()
        ]
        print(table(("channel", "hours", "SNR", "sigma_eff", "from"), rows))
    for warning in result["warnings"]:
        say(f"note: {warning}")

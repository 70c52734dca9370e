"""``subs``: single exposures graded, nothing moved or changed."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..workspace.subs.grading import GradedSub, grade_folder
from .angles import number
from .parser import add_common
from .telling import done, print_json, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb subs."""
    parser = verbs.add_parser("subs")
    parser.add_argument("folder", metavar="FOLDER")
    parser.add_argument(
        "--lon",
        type=number,
        metavar="DEG",
        help="longitude, east positive, where headers have none",
    )
    add_common(parser)
    parser.set_defaults(run=run)


def _row(sub: GradedSub, folder: Path) -> dict[str, Any]:
    m, g = sub.measure, sub.grade
    return {
        "file": str(sub.path.relative_to(folder)),
        "fwhm_px": m.fwhm_px if m else None,
        "ellipticity": m.ellipticity if m else None,
        "background": m.background if m else None,
        "stars": m.stars if m else None,
        "transparency": g.transparency,
        "noise": m.noise if m else None,
        "suggest": "keep" if g.keep else "reject",
        "reason": g.reason,
        "causes": list(g.causes),
    }


def run(options: argparse.Namespace) -> None:
    """Measure and grade the subs of a folder."""
    folder = Path(options.folder)
    progress = terminal_progress()
    rows = [_row(s, folder) for s in grade_folder(folder, options.lon, progress)]
    done()
    if options.json:
        print_json(rows)
        return
    print(
        table(
            ("file", "FWHM px", "long", "background", "stars", "light", "suggest", "reason"),
            [
                (
                    r["file"],
                    r["fwhm_px"],
                    r["ellipticity"],
                    r["background"],
                    r["stars"],
                    r["transparency"],
                    r["suggest"],
                    r["reason"],
                )
                for r in rows
            ],
        )
    )

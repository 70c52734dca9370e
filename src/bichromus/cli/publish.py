"""``publish``: pictures, summary and process record of a project."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.files import FORMATS
from ..core.model.errors import InputError, UnknownName
from ..core.numerics.spaces import SPACES
from ..core.publish.shapes import ratio_of
from ..workspace.project.state import ProjectState
from ..workspace.publish.controller import Published
from ..workspace.publish.files import AS_IT_IS
from .common import output_folder
from .parser import add_common
from .sessions import opened
from .telling import done, print_json, say, terminal_progress

_USUAL = "tiff16,jpeg"


def register(verbs: Any) -> None:
    """The verb publish."""
    parser = verbs.add_parser("publish")
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parser.add_argument("--out", required=True, metavar="DIR")
    parser.add_argument("--version", default="", metavar="NAME", help="else the picture as it is")
    parser.add_argument("--formats", default=_USUAL, metavar="LIST", help=", ".join(FORMATS))
    parser.add_argument(
        "--longest",
        action="append",
        default=[],
        metavar="PX",
        help="or full; may stand several times",
    )
    parser.add_argument("--shape", default="full", metavar="full|square|W:H")
    parser.add_argument("--space", choices=list(SPACES), default="srgb")
    parser.add_argument("--caption", action="store_true", help="a strip of words under the picture")
    parser.add_argument(
        "--summary", default="markdown", metavar="FORM", help="or a template's name"
    )
    parser.add_argument("--overwrite", action="store_true")
    for name, words in (
        ("title", "what the picture is called"),
        ("description", "what is said of it"),
        ("authors", "who made it, with commas"),
        ("rights", "its rights"),
    ):
        parser.add_argument(f"--{name}", default="", metavar="TEXT", help=words)
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Publish the picture, or a version."""
    changes = {
        "formats": _formats(options.formats),
        "sizes": _sizes(options.longest),
        "shape": options.shape,
        "space": options.space,
        "caption": options.caption,
        "summary": options.summary,
        "version": options.version,
        "stem": "",
    }
    said = {n: getattr(options, n) for n in ("title", "description", "authors", "rights")}
    changes |= {n: words for n, words in said.items() if words}  # else what the project says
    ratio_of(options.shape)
    folder = output_folder(options.out)
    with opened(options.project) as session:
        state: ProjectState = session.state
        wanted = state.model_copy(update={"publish": state.publish.replaced(**changes)})
        made = session.publishing.publish_now(
            wanted, folder, options.overwrite, terminal_progress()
        )
    done()
    if options.json:
        print_json(_result(made))
    else:
        for path in made.paths:
            say(f"written: {path}")
    return 0


def _formats(text: str) -> tuple[str, ...]:
    names = tuple(dict.fromkeys(n.strip() for n in text.split(",") if n.strip()))
    unknown = [n for n in names if n not in FORMATS]
    if unknown or not names:
        raise UnknownName(
            f"No format is called {unknown[0]!r}" if unknown else "No format is given",
            do=f"Use some of {', '.join(FORMATS)}",
        )
    return names


def _sizes(items: list[str]) -> tuple[int, ...]:
    found = []
    for item in items or ["full"]:
        if item == "full":
            found.append(AS_IT_IS)
        elif item.isdecimal() and 16 <= int(item) <= 100_000:
            found.append(int(item))
        else:
            raise InputError(
                f"The size {item!r} is not clear", do="Give pixels from 16 to 100000, or full"
            )
    return tuple(dict.fromkeys(found))


def _result(made: Published) -> dict[str, Any]:
    return {
        "files": [
            {
                "file": str(w.file.path),
                "format": w.file.format_id,
                "size": [w.shape[1], w.shape[0]],
            }
            for w in made.pictures
        ],
        "summary": {"file": str(made.summary), "hours": made.hours},
        "record": {"file": str(made.record), "data": str(made.record.with_suffix(".json"))},
    }

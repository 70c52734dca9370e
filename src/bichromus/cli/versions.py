"""``versions``: list, keep, show, compare, export, import."""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Final

from ..core.files.atomic import check_output, write_text
from ..core.model.errors import BichromusError, InputError
from ..core.model.recipe import load_recipe
from ..workspace.project.reading import read_state
from ..workspace.project.state import ProjectState, VersionState
from ..workspace.session import Session
from ..workspace.versions.compare import compare, star_size
from ..workspace.versions.controller import FOLDER
from ..workspace.versions.files import VersionFiles
from .common import add_common, print_json, table

_LOOK_S: Final = 0.05


def register(verbs: Any) -> None:
    """The verbs of versions."""
    parser = verbs.add_parser("versions", help="versions of a project's picture")
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parts = parser.add_subparsers(dest="part", metavar="PART", required=True)
    _part(parts, "list", "all versions", run_list)
    keep = _part(parts, "keep", "keep the picture as it is", run_keep)
    keep.add_argument("name", metavar="NAME")
    keep.add_argument("--note", default="", metavar="TEXT")
    keep.add_argument("--recipe", type=Path, metavar="FILE", help="keep this recipe instead")
    keep.add_argument("--overwrite", action="store_true")
    show = _part(parts, "show", "the picture of a version", run_show)
    show.add_argument("name", metavar="NAME")
    differ = _part(parts, "compare", "what differs between two", run_compare)
    differ.add_argument("one", metavar="A")
    differ.add_argument("two", metavar="B")
    out = _part(parts, "export", "the recipe of a version", run_export)
    out.add_argument("name", metavar="NAME")
    for part in (show, out):
        part.add_argument("--out", required=True, type=Path, metavar="FILE")
        part.add_argument("--overwrite", action="store_true")
    take = _part(parts, "import", "a recipe from elsewhere as a version", run_import)
    take.add_argument("file", type=Path, metavar="FILE")
    take.add_argument("--name", metavar="NAME", help="else it is named after the file")
    take.add_argument("--overwrite", action="store_true")


def _part(parts: Any, name: str, words: str, run: Any) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = parts.add_parser(name, help=words)
    add_common(parser)
    parser.set_defaults(run=run)
    return parser


def run_list(options: argparse.Namespace) -> int:
    """All versions, in the order in which they were kept."""
    found = [_entry(v) for v in read_state(options.project).versions]
    if options.json:
        print_json(found)
    else:
        rows = [
            (v["name"], v["made"], v["mapping"], "favourite" if v["favourite"] else "", v["note"])
            for v in found
        ]
        print(table(("version", "kept", "mapping", "", "note"), rows))
    return 0


def run_keep(options: argparse.Namespace) -> int:
    """The picture as it is, or another recipe on its channels."""
    recipe = load_recipe(options.recipe) if options.recipe is not None else None
    with opened(options.project) as session:
        made = session.versions.keep_as(options.name, options.note, recipe, options.overwrite)
    return _told(options, made)


def run_import(options: argparse.Namespace) -> int:
    """A recipe from elsewhere on the project's own channels."""
    recipe = load_recipe(options.file)
    name = options.name or options.file.stem
    with opened(options.project) as session:
        made = session.versions.keep_as(name, "", recipe, options.overwrite)
    return _told(options, made)


def run_show(options: argparse.Namespace) -> int:
    """The picture that was kept."""
    out = check_output(options.out, options.overwrite)
    version, files = _version(options.project, options.name)
    width, height = files.copy_picture(version.recipe, out, options.overwrite)
    found = {"out": str(out), "size": [width, height]}
    if options.json:
        print_json(found)
    else:
        print(f"Wrote {out}, {width} × {height} px.")
    return 0


def run_export(options: argparse.Namespace) -> int:
    """The recipe as a file."""
    out = check_output(options.out, options.overwrite)
    version, files = _version(options.project, options.name)
    write_text(out, files.recipe(version.recipe).dump(), options.overwrite)
    if options.json:
        print_json({"out": str(out)})
    else:
        print(f"Wrote {out}.")
    return 0


def run_compare(options: argparse.Namespace) -> int:
    """What differs, in words and figures."""
    (one, files), (two, _) = (_version(options.project, n) for n in (options.one, options.two))
    found = compare(one, two, *(files.recipe(v.recipe) for v in (one, two)))
    if options.json:
        names = sorted({*one.channels, *two.channels})
        snr = {n: [_snr(v, n) for v in (one, two)] for n in names}
        figures: dict[str, object] = {"snr": snr}
        for key, version in (("a", one), ("b", two)):
            figures |= {
                f"hours_{key}": version.hours,
                f"noise_{key}": version.noise,
                f"fwhm_{key}": star_size(version),
            }
        print_json({"words": list(found.words), "figures": figures})
        return 0
    print("\n".join(found.words) or "Nothing differs.")
    print(table(("", one.name, two.name), [(r.what, r.one, r.two) for r in found.rows]))
    return 0


@contextmanager
def opened(project: Path) -> Iterator[Session]:
    """A project with its channels prepared. Raises ProjectError, and what went wrong meanwhile."""
    read_state(project)  # refuses what is no project
    session = Session(project)
    errors: list[BichromusError] = []
    session.errors.connect(errors.extend)
    try:
        session.follow()
        while session.jobs.busy or session.previews.busy:
            time.sleep(_LOOK_S)
        if errors and session.blend.snapshot.recipe is None:
            raise errors[0]
        yield session
    finally:
        session.close()


def _version(project: Path, name: str) -> tuple[VersionState, VersionFiles]:
    state: ProjectState = read_state(project)
    found = state.version(name)
    if found is None:
        known = ", ".join(v.name for v in state.versions) or "none"
        raise InputError(
            "There is no version of this name", why=f"{name}; there are: {known}", do="Give another"
        )
    return found, VersionFiles(project / FOLDER)


def _told(options: argparse.Namespace, made: VersionState) -> int:
    if options.json:
        print_json(_entry(made, stale=False))
    else:
        print(f"Kept {made.name}.")
    return 0


def _entry(version: VersionState, stale: bool | None = None) -> dict[str, Any]:
    return {
        "name": version.name,
        "note": version.note,
        "made": version.made,
        "mapping": version.mapping,
        "favourite": version.favourite,
        "stale": stale,
        "channels": {n: {"hours": c.hours, "snr": c.snr} for n, c in version.channels.items()},
    }


def _snr(version: VersionState, name: str) -> float | None:
    channel = version.channels.get(name)
    return channel.snr if channel is not None else None

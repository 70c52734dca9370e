"""``versions``: list, keep, show, compare, export, import."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ..core.blend.pixels import quantise
from ..core.files import format_of, write_picture
from ..core.files.atomic import check_output, write_text
from ..core.model.errors import InputError, ProjectError
from ..core.model.recipe import load_recipe
from ..core.numerics.sampling import whole_view
from ..workspace.project.reading import read_state
from ..workspace.project.state import ProjectState, VersionState
from ..workspace.versions.commands import check_free
from ..workspace.versions.compare import compare, laid_words, star_size
from ..workspace.versions.controller import FOLDER, VersionsController, is_recipe
from ..workspace.versions.files import VersionFiles
from ..workspace.versions.making import unfit
from .parser import add_common
from .sessions import opened
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verbs of versions."""
    parser = verbs.add_parser("versions")
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
    take = _part(parts, "import", "a recipe or a picture from elsewhere as a version", run_import)
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
    found = _entries(options.project)
    if options.json:
        print_json(found)
    else:
        rows = [(v["name"], v["made"], v["mapping"], _marks(v), v["note"]) for v in found]
        print(table(("version", "kept", "mapping", "", "note"), rows))
    return 0


def _entries(project: Path) -> list[dict[str, Any]]:
    """All versions; whether their channels have changed since is not known while the project is
    open elsewhere.
    """
    state = read_state(project)
    if not state.versions:
        return []
    try:
        with opened(project, layers=False) as session:
            return [_entry(v, bool(session.versions.stale(v))) for v in state.versions]
    except ProjectError:
        return [_entry(v) for v in state.versions]


def _marks(entry: dict[str, Any]) -> str:
    marks = ("favourite", entry["favourite"]), ("channels changed since", entry["stale"])
    return ", ".join(words for words, on in marks if on)


def run_keep(options: argparse.Namespace) -> int:
    """The picture as it is, or another recipe on its channels."""
    recipe = load_recipe(options.recipe) if options.recipe is not None else None
    with opened(options.project) as session:
        made = session.versions.keep_as(options.name, options.note, recipe, options.overwrite)
    return _told(options, made)


def run_import(options: argparse.Namespace) -> int:
    """A recipe from elsewhere on the project's own channels, or a picture on its grid."""
    name = options.name or options.file.stem
    if not is_recipe(options.file):
        return _import_picture(options, name)
    recipe = load_recipe(options.file)
    with opened(options.project) as session:
        made = session.versions.keep_as(name, "", recipe, options.overwrite)
        warnings = unfit(recipe, session.versions.files.recipe(made.recipe))
    return _told(options, made, warnings)


def _import_picture(options: argparse.Namespace, name: str) -> int:
    with opened(options.project, layers=False) as session:
        if not options.overwrite:
            check_free(session.state, name)
        version = session.versions.brought(options.file, terminal_progress())
        session.versions.take(version.replaced(name=name), options.overwrite)
    done()
    laid = version.laid
    assert laid is not None
    if options.json:
        print_json(
            {
                "name": name,
                "rms_px": laid.rms_px,
                "mirrored": laid.mirrored,
                "scale": laid.scale,
                "angle_deg": laid.angle_deg,
                "stars": laid.stars,
            }
        )
    else:
        say(f"Kept {name}: {laid_words(laid)}.")
    return 0


def run_show(options: argparse.Namespace) -> int:
    """The picture of a version: rendered in full where its channels are there, else as it was
    kept.
    """
    out = check_output(options.out, options.overwrite)
    format_of(out)
    version, files = _version(options.project, options.name)
    try:
        with opened(options.project) as session:
            height, width = _shown(session.versions, version, out, options.overwrite)
    except ProjectError:  # open in a window: what was kept can be read all the same
        height, width = _as_kept(files, version, out, options.overwrite)
    done()
    found = {"out": str(out), "size": [width, height]}
    if options.json:
        print_json(found)
    else:
        say(f"Wrote {out}, {width} × {height} px.")
    return 0


def _shown(
    versions: VersionsController, version: VersionState, out: Path, overwrite: bool
) -> tuple[int, int]:
    """Write the picture of a version; its height and width."""
    fmt = format_of(out)
    renderable = version.laid is None and (not versions.stale(version) or versions.held(version))
    if renderable:
        renderer, recipe = versions.rendered_by(version, terminal_progress())
        shape = renderer.shape_of(recipe)
        bands = renderer.blender.bands(recipe, shape, fmt.dtype)
        write_picture(out, fmt, bands, shape, recipe.model_dump(), overwrite)
        return shape
    return _as_kept(versions.files, version, out, overwrite)


def _as_kept(
    files: VersionFiles, version: VersionState, out: Path, overwrite: bool
) -> tuple[int, int]:
    """Write the picture that was kept, at the size of the whole; its height and width."""
    fmt, shape = format_of(out), version.size[::-1]
    pixels = files.seen(version.recipe, version.size, whole_view(shape, max(shape)))
    code = np.moveaxis(pixels, 2, 0).astype(np.float32) / np.float32(255)
    write_picture(out, fmt, iter([quantise(code, fmt.dtype)]), shape, {}, overwrite)
    return shape


def run_export(options: argparse.Namespace) -> int:
    """The recipe as a file."""
    out = check_output(options.out, options.overwrite)
    version, files = _version(options.project, options.name)
    if version.laid is not None:
        raise InputError(
            f"{version.name} is a picture from elsewhere",
            why="it has no recipe",
            do="Export another version",
        )
    write_text(out, files.recipe(version.recipe).dump(), options.overwrite)
    if options.json:
        print_json({"out": str(out)})
    else:
        say(f"Wrote {out}.")
    return 0


def run_compare(options: argparse.Namespace) -> int:
    """What differs, in words and figures."""
    (one, files), (two, _) = (_version(options.project, n) for n in (options.one, options.two))
    recipes = (files.recipe(v.recipe) if v.laid is None else None for v in (one, two))
    found = compare(one, two, *recipes)
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
    for line in found.words or ["Nothing differs."]:
        say(line)
    print(table(("", one.name, two.name), [(r.what, r.one, r.two) for r in found.rows]))
    return 0


def _version(project: Path, name: str) -> tuple[VersionState, VersionFiles]:
    state: ProjectState = read_state(project)
    found = state.version(name)
    if found is None:
        known = ", ".join(v.name for v in state.versions) or "none"
        raise InputError(
            "There is no version of this name", why=f"{name}; there are: {known}", do="Give another"
        )
    return found, VersionFiles(project / FOLDER)


def _told(options: argparse.Namespace, made: VersionState, warnings: Sequence[str] = ()) -> int:
    if options.json:
        print_json({**_entry(made, stale=False), "warnings": list(warnings)})
        return 0
    say(f"Kept {made.name}.")
    for warning in warnings:
        say(f"note: {warning}")
    return 0


def _entry(version: VersionState, stale: bool | None = None) -> dict[str, Any]:
    return {
        "name": version.name,
        "note": version.note,
        "made": version.made,
        "mapping": version.mapping or None,
        "from_elsewhere": version.laid is not None,
        "favourite": version.favourite,
        "stale": stale,
        "channels": {n: {"hours": c.hours, "snr": c.snr} for n, c in version.channels.items()},
    }


def _snr(version: VersionState, name: str) -> float | None:
    channel = version.channels.get(name)
    return channel.snr if channel is not None else None

"""Files opened as stacks: what each holds, as its header says, and what has to be asked."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Final, TypeVar

from ...core.files import read_picture
from ...core.model.channel import LINES, FilterName, filter_name
from ...core.model.errors import InputError, UnreadableFile
from ...core.model.planes import Picture
from ...core.model.progress import SILENT, Progress
from ..project.state import SourceState
from ..project.store import Store
from ..work.together import side_by_side

T = TypeVar("T")
RGB = ("R", "G", "B")
_ID_LETTERS: Final = 12
_HEADS: Final = 0.05  # of the time that opening takes
_SEEN: Final = 0.3
_READ: Final = 4  # of a file's bytes, while it is read; packed ones need more
_COPIES: Final = 12  # of its planes in float32, while a stack is measured and laid on the grid
_COLOUR_ALONE = ("rgb", "osc")  # no filter but those on the sensor


def bytes_of(source: SourceState) -> float:
    """What preparing a stack needs of memory, about."""
    planes = 3 if source.colour else 1
    return _COPIES * 4.0 * planes * source.shape[0] * source.shape[1]


Seen = Callable[[list[SourceState], Progress], None]


def inspect(
    store: Store,
    paths: Sequence[Path],
    existing: Sequence[SourceState],
    progress: Progress = SILENT,
    preliminary: bool = False,
    now: str = "",
    seen: Seen | None = None,
) -> tuple[list[SourceState], list[InputError]]:
    """Read files to be opened. What cannot be used comes back as an error each; the rest is kept.

    Preliminary stacks may lie on a grid of their own. ``seen`` is told the stacks as their headers
    say, without their names by content yet: to read whole files for those takes a while.
    """
    read = partial(_inspect_one, preliminary=preliminary, now=now)
    looked = _each(read, paths, paths, progress.part(0, _HEADS))
    heads = [s for s in looked if isinstance(s, SourceState)]
    if seen is not None and heads:
        seen(heads, progress.part(_HEADS, _SEEN))
    rest = progress.part(_SEEN, 1)
    named = iter(_each(partial(_named, store), heads, [Path(s.path) for s in heads], rest))
    found: list[SourceState] = []
    errors: list[InputError] = []
    for one in (next(named) if isinstance(s, SourceState) else s for s in looked):
        if isinstance(one, InputError):
            errors.append(one)
        elif not any(s.hash == one.hash for s in (*existing, *found)):
            found.append(one)
    return found, errors


def _each(
    work: Callable[[T], SourceState], of: Sequence[T], paths: Sequence[Path], progress: Progress
) -> list[SourceState | InputError]:
    """What each comes to, or why not, side by side."""

    def one(what: T, path: Path, part: Progress) -> SourceState | InputError:
        part.step(0.0, f"reading {path.name}")
        try:
            return work(what)
        except InputError as error:
            return error

    pieces = [partial(one, x, p) for x, p in zip(of, paths, strict=True)]
    return side_by_side(pieces, progress, [_file_bytes(p) for p in paths])


def _file_bytes(path: Path) -> float:
    """What reading a file needs of memory, about."""
    try:
        return _READ * path.stat().st_size
    except OSError:
        return 0.0


def _named(store: Store, source: SourceState) -> SourceState:
    """With its name by content."""
    digest = source_hash(store, Path(source.path))
    return source.replaced(id=digest[:_ID_LETTERS], hash=digest)


def _inspect_one(path: Path, preliminary: bool, now: str) -> SourceState:
    picture = read_picture(path)
    header = picture.header
    colour = picture.colour or bool(header.bayer)
    lines, sure = _held(header.filter or filter_name(path.stem.rsplit("_", 1)[-1]), colour)
    return SourceState(
        id=str(path),
        path=str(path.absolute()),
        hash="",
        colour=colour,
        lines=lines,
        shape=picture.shape,
        station=header.station or "",
        camera=header.camera or "",
        hours=header.total_s / 3600 if header.total_s else None,
        subs=header.subs,
        sub_s=header.exposure_s,
        scale_arcsec=header.scale_arcsec,
        object_name=header.object_name or "",
        preliminary=preliminary,
        bayer="" if picture.colour else header.bayer or "",
        sure=sure,
        filter=header.filter.text if header.filter and not sure else "",
        until=header.end_utc or now,
    )


def _held(known: FilterName, colour: bool) -> tuple[tuple[str, ...], bool]:
    """The channels of a stack behind a filter, and whether that is sure; else a guess that has to
    be confirmed.
    """
    lines = known.lines
    if not colour:
        return (lines, True) if len(lines) == 1 else (("L",), False)
    if len(lines) in (1, 2, 3) and set(lines) <= set(LINES):
        return lines, True
    if lines in (("L",), ("C",)) or known.text.lower() in _COLOUR_ALONE:
        return RGB, True  # a broad filter over the colour planes
    return ("Ha", "O3"), False


def source_hash(store: Store, path: Path) -> str:
    """SHA-256 of a file, remembered as long as the file does not change."""
    known = store.known_hash(path)
    if known:
        return known
    try:
        with open(path, "rb") as handle:
            digest = hashlib.file_digest(handle, "sha256").hexdigest()
        store.remember_hash(path, digest)
    except OSError as error:
        raise UnreadableFile(
            "This file cannot be read",
            why=error.strerror or str(error),
            do="Check the disk",
            file=path,
        ) from error
    return digest


def read_source(source: SourceState) -> Picture:
    """The picture of a stack. Raises UnreadableFile where it is gone."""
    path = Path(source.path)
    if not path.exists():
        raise UnreadableFile(
            "A stack of this project is no longer where it was",
            why="it was moved or its disk is away",
            do="Bring it back, or remove it from the project",
            file=path,
        )
    return read_picture(path)

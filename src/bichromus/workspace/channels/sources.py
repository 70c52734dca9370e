"""Files opened as stacks: what each holds, as its header says, and what has to be asked."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Final

from ...core.files import read_picture
from ...core.files.foreign import require_utf8
from ...core.files.frames import mapped_frame
from ...core.model.channel import LINES, FilterName, filter_name
from ...core.model.errors import InputError, UnreadableFile
from ...core.model.planes import Header, Picture
from ...core.model.progress import SILENT, Progress
from ..project.state import SourceState
from ..project.store import Store
from ..work.together import side_by_side

RGB = ("R", "G", "B")
_ID_LETTERS: Final = 12
_SEEN: Final = 0.3  # of the time that opening takes, for a first look
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

    Preliminary stacks may lie on a grid of their own. ``seen`` is told before what can be said of
    them in a moment: files that can be used in place, without their names by content.
    """
    if seen is not None:
        early = [s for p in paths if (s := _glimpse(p, now)) is not None]
        if early:
            seen(early, progress.part(0, _SEEN))

    def look(path: Path, part: Progress) -> SourceState | InputError:
        part.step(0.0, f"reading {path.name}")
        try:
            return _inspect_one(store, path, preliminary, now)
        except InputError as error:
            return error

    found: list[SourceState] = []
    errors: list[InputError] = []
    pieces = [partial(look, p) for p in paths]
    part = progress.part(_SEEN if seen is not None else 0, 1)
    for one in side_by_side(pieces, part, [_file_bytes(p) for p in paths]):
        if isinstance(one, InputError):
            errors.append(one)
        elif not any(s.hash == one.hash for s in (*existing, *found)):
            found.append(one)
    return found, errors


def _file_bytes(path: Path) -> float:
    """What reading a file needs of memory, about."""
    try:
        return _READ * path.stat().st_size
    except OSError:
        return 0.0


def _glimpse(path: Path, now: str) -> SourceState | None:
    """What the header of a file says that need not be read; None where it must be, or cannot."""
    with contextlib.suppress(InputError, OSError):
        require_utf8(path)
        frame = mapped_frame(path)
        if frame is not None:
            return _said(path, frame.header, len(frame.stored) == 3, frame.shape, now)
    return None


def _inspect_one(store: Store, path: Path, preliminary: bool, now: str) -> SourceState:
    require_utf8(path)
    picture = read_picture(path)
    digest = source_hash(store, path)
    said = _said(path, picture.header, picture.colour, picture.shape, now)
    return said.replaced(id=digest[:_ID_LETTERS], hash=digest, preliminary=preliminary)


def _said(
    path: Path, header: Header, planes: bool, shape: tuple[int, int], now: str
) -> SourceState:
    """A stack by its header, not yet named by its content; ``planes``: it has three."""
    colour = planes or bool(header.bayer)
    lines, sure = _held(header.filter or filter_name(path.stem.rsplit("_", 1)[-1]), colour)
    return SourceState(
        id=str(path.absolute()),
        path=str(path.absolute()),
        hash="",
        colour=colour,
        lines=lines,
        shape=shape,
        station=header.station or "",
        camera=header.camera or "",
        hours=header.total_s / 3600 if header.total_s else None,
        subs=header.subs,
        sub_s=header.exposure_s,
        scale_arcsec=header.scale_arcsec,
        object_name=header.object_name or "",
        bayer="" if planes else header.bayer or "",
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

"""People's work pooled: a folder with stacks or subs and a small manifest that says whose
they are.
"""

from __future__ import annotations

import datetime as dt
import errno
import os
import shutil
import stat
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from pydantic import ValidationError

from ...core.files import read_fits_header
from ...core.files.atomic import check_output, write_failed, write_text
from ...core.files.read import sniff
from ...core.model.errors import InputError, UnreadableFile
from ...core.model.log_columns import READ
from ...core.model.progress import SILENT, Progress
from ...core.model.text_file import read_text
from ...core.model.visible import cut, quote
from ..project.journal import Row
from ..project.state import SourceState
from .manifest import Manifest, RecipePart, RunPart, StackPart, make_manifest
from .sub import Sub
from .table import known_channel
from .typed_runs import make_run

MANIFEST: Final = "contribution.json"


@dataclass(frozen=True)
class Contribution:
    """A contribution read: runs to be typed by id, stacks to be opened, recipes to be kept."""

    manifest: Manifest
    runs: dict[str, Row]
    stacks: tuple[Path, ...]
    recipes: tuple[Path, ...] = ()


@dataclass(frozen=True)
class Extra:
    """A file that is made for a contribution: its place in the folder, and what writes it there."""

    place: str
    write: Callable[[Path], None]


@dataclass(frozen=True)
class Extras:
    """What is handed over beside the log: pooled ``masters`` in place of the stacks, and the
    ``recipes`` of versions.
    """

    masters: tuple[tuple[StackPart, Extra], ...] = ()
    recipes: tuple[tuple[RecipePart, Extra], ...] = ()


def read_contribution(folder: Path) -> Contribution:
    """Read a folder's manifest. Raises InputError for one that does not say what it should."""
    path = folder / MANIFEST if folder.is_dir() else folder
    try:
        made = Manifest.model_validate_json(read_text(path))
    except OSError as error:
        raise UnreadableFile(
            "There is no contribution here",
            why=f"no {MANIFEST}"
            if isinstance(error, FileNotFoundError)
            else error.strerror or str(error),
            do="Choose the folder that holds it",
            file=folder,
        ) from error
    except (ValidationError, UnicodeDecodeError, ValueError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else None
        why = (
            f"{'.'.join(map(str, first['loc'])) or 'the text'}: {cut(first['msg'])}"
            if first
            else "it is no text"
        )
        raise InputError(
            "The contribution cannot be used",
            why=why,
            file=path,
            do="Ask its sender to export it again",
        ) from error
    stacks = [_beside(path, part.file, "stack") for part in made.stacks]
    recipes = [_beside(path, part.file, "recipe") for part in made.recipes]
    return Contribution(made, _runs(made, stacks, path), tuple(stacks), tuple(recipes))


def _beside(manifest: Path, name: str, what: str) -> Path:
    """A file that a manifest names. Raises InputError for one outside its folder, UnreadableFile
    for one that is missing.
    """
    home = manifest.parent.absolute()
    try:
        place = (home / name).resolve()
        there = place.is_file()
    except (OSError, ValueError) as error:
        raise InputError(
            f"The contribution names a {what} that cannot be",
            why=quote(name),
            file=manifest,
            do="Ask its sender to export it again",
        ) from error
    if not place.is_relative_to(home.resolve()):
        raise InputError(
            "The contribution names a file outside its folder",
            why=quote(name),
            file=manifest,
            do="Ask its sender to export it again",
        )
    if not there:
        raise UnreadableFile(
            f"A {what} of this contribution is missing", do="Copy it again", file=place
        )
    return place


def _runs(made: Manifest, stacks: Sequence[Path], path: Path) -> dict[str, Row]:
    parts = list(made.runs)
    if not parts and (made.hours or made.stacks):
        night = made.date or _night_of(stacks)
        hours = made.hours or _stack_hours(made)
        if night is None and made.stacks:
            return {}  # the stacks themselves tell their hours
        if hours and night is None:
            raise InputError(
                "The contribution tells no night",
                why="neither runs nor a date are in it",
                file=path,
                do="Add a date to its manifest",
            )
        for channel, amount in hours.items():
            if not 0 < amount < 5000:
                raise InputError(
                    "The contribution's hours cannot be",
                    why=f"{channel} {amount:g}",
                    file=path,
                    do="Give hours above 0",
                )
            assert night is not None
            parts.append(
                RunPart(
                    night=night,
                    channel=channel,
                    sub_s=round(amount * 3600 / max(round(amount * 12), 1), 6),
                    kept=max(round(amount * 12), 1),
                )
            )
    out: dict[str, Row] = {}
    for part in parts:
        run_id, row = make_run(
            {
                "night": part.night.isoformat(),
                "channel": known_channel(part.channel),
                "seconds": f"{part.sub_s!r}",
                "kept": str(part.kept),
                "rejected": str(part.rejected),
                "contributor": made.station,
                "telescope": part.telescope or (made.rig if not part.camera else ""),
                "camera": part.camera,
                "object": made.object,
                **{c.id: _typed(getattr(part, c.id)) for c in READ},
            }
        )
        out[run_id] = row
    return out


def _check_source(source: Path, may_copy: Callable[[Path], bool]) -> None:
    """Raises InputError for a file that must not be handed on."""
    if not may_copy(source):
        raise InputError(
            "This file is not handed on",
            why="the project points to it, but you have never opened it for this project",
            do="Open it here first, if it is yours to give",
            file=source,
        )
    sniff(source)


def _copy(source: Path, target: Path) -> None:
    """Copy a plain file; what has become a link or a pipe meanwhile is no such file."""
    handle = os.open(source.resolve(), os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(handle, "rb") as one, open(target, "xb") as two:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(errno.EINVAL, "it is a pipe or a device")
        shutil.copyfileobj(one, two, 1 << 20)


def _typed(value: float | None) -> str:
    return "" if value is None else f"{value!r}"


def _stack_hours(made: Manifest) -> dict[str, float]:
    out: dict[str, float] = defaultdict(float)
    for stack in made.stacks:
        if stack.hours:
            out[stack.channel] += stack.hours
    return dict(out)


def _night_of(stacks: Sequence[Path]) -> dt.date | None:
    for path in stacks:
        text = read_fits_header(path).date_utc
        if text:
            try:
                return dt.datetime.fromisoformat(text.replace("Z", "")).date()
            except ValueError:
                continue
    return None


def write_contribution(
    folder: Path,
    station: str,
    subs: Sequence[Sub],
    sources: Sequence[SourceState],
    with_subs: bool = False,
    progress: Progress = SILENT,
    taken: Callable[[Path], bool] = Path.exists,
    extras: Extras = Extras(),
    may_copy: Callable[[Path], bool] = lambda _path: True,
) -> list[Path]:
    """Write a station's manifest and copies of its stacks, or the masters in their place, its kept
    subs where asked, and recipes, into a new folder.

    Only files for which ``may_copy`` holds go along, and of those only pictures that can be read:
    what a project says of a file is no reason to hand it on. The manifest comes last: a folder
    without one is no contribution. Raises InputError, OutputRefused, WriteFailed.
    """
    made = make_manifest(station, subs, sources)
    stacks = [s for s in sources if s.station == station and not s.preliminary]
    if extras.masters:
        made = made.model_copy(update={"stacks": tuple(part for part, _ in extras.masters)})
        stacks = []
    if extras.recipes:
        parts = tuple(part for part, _ in extras.recipes)
        made = made.model_copy(update={"version": 2, "recipes": parts})
    files = (
        [(Path(s.path), folder / part.file) for s, part in zip(stacks, made.stacks, strict=True)]
        if stacks
        else []
    )
    made_here = [extra for _, extra in (*extras.masters, *extras.recipes)]
    if with_subs:
        files += [
            (Path(s.file), folder / "subs" / s.night.isoformat() / Path(s.file).name)
            for s in subs
            if s.contributor == station and s.kept and s.file
        ]
    check_output(folder / MANIFEST, False)
    for source, _ in files:
        _check_source(source, may_copy)
    for place in (*(p for _, p in files), *(folder / e.place for e in made_here)):
        if taken(place):
            raise InputError("This file is there already", do="Choose an empty folder", file=place)
    try:
        count = len(files) + len(made_here)
        for number, (source, place) in enumerate(files):
            progress.step(number / count, f"copying {source.name}")
            place.parent.mkdir(parents=True, exist_ok=True)
            partial = place.with_name(place.name + ".partial")
            _copy(source, partial)
            partial.replace(place)
        for number, extra in enumerate(made_here, len(files)):
            progress.step(number / count, f"writing {extra.place}")
            (folder / extra.place).parent.mkdir(parents=True, exist_ok=True)
            extra.write(folder / extra.place)
    except OSError as error:
        raise write_failed(error, folder) from error
    write_text(folder / MANIFEST, made.dump(), False)
    return [folder / MANIFEST, *(p for _, p in files), *(folder / e.place for e in made_here)]

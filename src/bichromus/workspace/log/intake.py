"""A folder of subs read by its headers: what is there, each sub once."""

from __future__ import annotations

import datetime as dt
import itertools
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Final

from ...core.files.foreign import require_utf8
from ...core.files.sub_header import is_sub_file, read_sub
from ...core.model.errors import UnreadableFile, UnsupportedData
from ...core.model.progress import SILENT, Progress
from ...core.model.sub import SubHeader
from ..project.journal import Edit
from .table import LogTable, filter_key, known_channel, name_filters

_BATCH: Final = 200
"""Subs that are written in one transaction: a killed intake loses no more."""
_SERIAL = itertools.count()


@dataclass
class Intake:
    """What an intake found; ``files`` is the sum of the rest."""

    files: int = 0
    added: int = 0
    duplicates: int = 0
    not_lights: int = 0
    broken: list[tuple[str, str]] = field(default_factory=list)
    unknown_filters: dict[str, int] = field(default_factory=dict)
    warnings: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class LightFrame:
    """One sub, with all places where it was found."""

    header: SubHeader
    paths: list[Path]
    rejected: bool


@dataclass
class Scan:
    """Lights by identity, and the other frames as path, kind, word."""

    found: Intake
    lights: dict[str, LightFrame]
    others: list[tuple[str, str, str]]


def sub_files(folder: Path) -> list[Path]:
    """All files of a folder and below that could be subs. Raises UnreadableFile."""
    if not folder.is_dir():
        raise UnreadableFile(
            "There is no such folder", do="Check its name and the disk", file=folder
        )
    return sorted(p for p in folder.rglob("*") if p.is_file() and is_sub_file(p))


def scan(folder: Path, files: Sequence[Path], progress: Progress = SILENT) -> Scan:
    """Read the headers of files below ``folder``. Broken ones are listed, nothing is judged."""
    out = Scan(Intake(files=len(files)), {}, [])
    odd: dict[str, int] = defaultdict(int)
    for number, path in enumerate(files):
        if number % 20 == 0:
            progress.step(number / max(len(files), 1), f"reading {path.name}")
        try:
            require_utf8(path)
            kind, header, word = read_sub(path)
        except (UnreadableFile, UnsupportedData) as error:
            out.found.broken.append((str(path.absolute()), error.why or error.what))
            continue
        if header is None:
            out.found.not_lights += 1
            out.others.append((str(path.absolute()), kind, word))
            if kind == "unknown":
                odd[word] += 1
            continue
        known = out.lights.get(header.identity)
        rejected = _in_rejected(path, folder) or (known is not None and known.rejected)
        out.lights[header.identity] = LightFrame(
            header, [*(known.paths if known else []), path.absolute()], rejected
        )
    out.found.warnings += [f"{n} files of the kind {w!r} are not counted." for w, n in odd.items()]
    return out


def _in_rejected(path: Path, folder: Path) -> bool:
    """In or below a folder called rejected, the one that is taken in included."""
    below = path.absolute().relative_to(folder.absolute()).parts[:-1]
    return any(p.casefold() == "rejected" for p in (folder.absolute().name, *below))


def take_in(
    log: LogTable,
    folder: Path,
    contributor: str | None = None,
    longitude: float | None = None,
    filters: Sequence[tuple[str, str]] = (),
    progress: Progress = SILENT,
) -> Intake:
    """Take in all subs of a folder and below: one gesture. Stores what was read and never judges.

    A killed intake keeps whole batches; doing it again completes it.
    """
    files = sub_files(folder)
    log.document.trust.accept([folder])
    merge = f"intake {next(_SERIAL)} {dt.datetime.now().timestamp()}"
    label = f"take in {folder.name}"
    named = [(filter_key(text), known_channel(channel)) for text, channel in filters]
    if named:
        log.edit(label, lambda e: name_filters(e, named), merge)
    made = scan(folder, files, progress.part(0, 0.9))
    lights = list(made.lights.items())
    for first in range(0, len(lights), _BATCH):
        progress.step(0.9 + 0.1 * first / len(lights), "writing the log")
        part = lights[first : first + _BATCH]
        log.edit(label, partial(_keep, log, part, made, contributor, longitude), merge)
    _list_others(log, made)
    progress.step(1.0)
    return made.found


def arrive(
    log: LogTable, folder: Path, files: Sequence[Path], contributor: str | None = None
) -> tuple[Intake, bool]:
    """Take in files that came by themselves, beside the history of gestures; whether the log
    changed.
    """
    made = scan(folder, files)
    lights = list(made.lights.items())
    changed = log.store.record(partial(_keep, log, lights, made, contributor, None))
    _list_others(log, made)
    return made.found, changed


def _keep(
    log: LogTable,
    lights: Sequence[tuple[str, LightFrame]],
    made: Scan,
    contributor: str | None,
    longitude: float | None,
    edit: Edit,
) -> None:
    names = log.filter_names()
    unknown = made.found.unknown_filters
    for identity, light in lights:
        _keep_one(edit, identity, light, made.found, contributor, longitude)
        found = light.header.filter
        odd = not found.known and found.text not in ("none", "RGB")
        if odd and filter_key(found.text) not in names:
            unknown[found.text] = unknown.get(found.text, 0) + 1


def _keep_one(
    edit: Edit,
    identity: str,
    light: LightFrame,
    found: Intake,
    contributor: str | None,
    longitude: float | None,
) -> None:
    header, rejected = light.header, int(light.rejected)
    known = edit.get("subs", identity)
    if known is not None:
        found.duplicates += len(light.paths)
        here = known["path"] in map(str, light.paths)
        path = known["path"] if here else str(light.paths[0])
        edit.put("subs", identity, {"path": path, "in_rejected": rejected})
        return
    found.added += 1
    found.duplicates += len(light.paths) - 1
    own = header.longitude
    edit.put(
        "subs",
        identity,
        {
            "path": str(light.paths[0]),
            "object": header.object_name,
            "filter": header.filter.text,
            "start": header.start.isoformat(),
            "seconds": header.seconds,
            "contributor": header.observer or contributor or "unknown",
            "telescope": header.telescope,
            "camera": header.camera,
            "longitude": own if own is not None else longitude,
            "in_rejected": rejected,
            "mark": None,
            "reason": "",
            "scale_arcsec": header.scale_arcsec,
            **header.figures,
        },
    )


def _list_others(log: LogTable, made: Scan) -> None:
    """Darks, flats, bias and unknown frames: listed, not counted."""
    if made.others:
        with log.store.writing() as db:
            db.executemany("INSERT OR REPLACE INTO others VALUES (?, ?, ?)", made.others)

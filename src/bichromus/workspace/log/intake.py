"""A folder of subs read by its headers: what is there, each sub once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from ...core.files.sub_header import is_sub_file, read_sub
from ...core.model.errors import UnreadableFile, UnsupportedData
from ...core.model.progress import SILENT, Progress
from ...core.model.sub import SubHeader


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
class Light:
    """One sub, with all places where it was found."""

    header: SubHeader
    paths: list[Path]
    rejected: bool


@dataclass
class Scan:
    """Lights by identity, and the other frames as path, kind, word."""

    found: Intake
    lights: dict[str, Light]
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
        out.lights[header.identity] = Light(
            header, [*(known.paths if known else []), path.absolute()], rejected
        )
    out.found.warnings += [f"{n} files of the kind {w!r} are not counted." for w, n in odd.items()]
    return out


def _in_rejected(path: Path, folder: Path) -> bool:
    """In or below a folder called rejected, the one that is taken in included."""
    below = path.absolute().relative_to(folder.absolute()).parts[:-1]
    return any(p.casefold() == "rejected" for p in (folder.absolute().name, *below))

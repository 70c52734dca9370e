"""The log: every sub counts once, whatever is moved, renamed or taken in again."""

from __future__ import annotations

import datetime as dt
import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.files.sub_header import is_sub_file, read_sub
from ..core.model.channel import FilterName, channel_name, filter_name
from ..core.model.errors import InputError, UnknownName, UnreadableFile, UnsupportedData
from ..core.model.progress import SILENT, Progress
from ..core.model.sub import SubHeader, night_at, nights_by_gap
from .store import Store

_SCHEMA = """
CREATE TABLE IF NOT EXISTS subs (
    identity TEXT PRIMARY KEY, path TEXT NOT NULL, object TEXT NOT NULL, filter TEXT NOT NULL, start TEXT NOT NULL,
    seconds REAL NOT NULL, contributor TEXT NOT NULL, telescope TEXT NOT NULL, camera TEXT NOT NULL, gain REAL,
    temperature_c REAL, longitude REAL, in_rejected INTEGER NOT NULL DEFAULT 0, mark TEXT,
    reason TEXT NOT NULL DEFAULT '');
CREATE INDEX IF NOT EXISTS subs_by_path ON subs (path);
CREATE TABLE IF NOT EXISTS filters (text TEXT PRIMARY KEY, channel TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS goals (channel TEXT PRIMARY KEY, seconds REAL NOT NULL);
"""
_BATCH = 200


@dataclass(frozen=True)
class Sub:
    """One sub of the log. ``channel`` is empty where the filter is not known."""

    file: str
    object_name: str
    channel: str
    filter: str
    night: dt.date
    start: dt.datetime
    seconds: float
    contributor: str
    telescope: str
    camera: str
    gain: float | None
    temperature_c: float | None
    kept: bool
    reason: str


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


@dataclass
class Sum:
    """Seconds and subs, kept and rejected."""

    seconds_kept: float = 0.0
    seconds_rejected: float = 0.0
    subs_kept: int = 0
    subs_rejected: int = 0

    def add(self, sub: Sub) -> None:
        if sub.kept:
            self.seconds_kept += sub.seconds
            self.subs_kept += 1
        else:
            self.seconds_rejected += sub.seconds
            self.subs_rejected += 1


class Log:
    """The log of one project. Close it when done."""

    def __init__(self, folder: Path, create: bool = False) -> None:
        """Open the log of a project; ``create`` makes the project where there is none. Raises ProjectError."""
        if not create and not (folder / "project.db").is_file():
            raise InputError("There is no such project", do="Check the path, or take subs in first", file=folder)
        self.store = Store(folder)
        self._db: sqlite3.Connection = self.store.connection
        self._db.executescript(_SCHEMA)

    def close(self) -> None:
        self.store.close()

    # --- taking in ---

    def intake(self, folder: Path, contributor: str | None = None, longitude: float | None = None,
               filters: Sequence[tuple[str, str]] = (), progress: Progress = SILENT) -> Intake:
        """Take in all subs of a folder and below. Stores what was read and never judges."""
        if not folder.is_dir():
            raise UnreadableFile("There is no such folder", do="Check its name and the disk", file=folder)
        with self.store.transaction():
            for text, channel in filters:
                self._db.execute("INSERT OR REPLACE INTO filters VALUES (?, ?)", (_key(text), known_channel(channel)))
        files = sorted(p for p in folder.rglob("*") if p.is_file() and is_sub_file(p))
        found = Intake(files=len(files))
        seen: dict[str, tuple[list[Path], SubHeader]] = {}
        odd: dict[str, int] = defaultdict(int)
        for number, path in enumerate(files):
            if number % 20 == 0:
                progress.step(number / max(len(files), 1) * 0.9, f"reading {path.name}")
            try:
                kind, header, word = read_sub(path)
            except (UnreadableFile, UnsupportedData) as error:
                found.broken.append((str(path.absolute()), error.why or error.what))
                continue
            if header is None:
                found.not_lights += 1
                if kind == "unknown":
                    odd[word] += 1
                continue
            seen.setdefault(header.identity, ([], header))[0].append(path.absolute())
        found.warnings += [f"{n} files of the kind {w!r} are not counted." for w, n in odd.items()]
        self._keep(seen, folder, contributor, longitude, found)
        progress.step(1.0)
        return found

    def _keep(self, seen: dict[str, tuple[list[Path], SubHeader]], folder: Path, contributor: str | None,
              longitude: float | None, found: Intake) -> None:
        items = list(seen.items())
        for first in range(0, len(items), _BATCH):
            with self.store.transaction():  # a killed intake keeps whole batches; doing it again completes it
                for identity, (paths, header) in items[first : first + _BATCH]:
                    self._keep_one(identity, paths, header, folder, contributor, longitude, found)
        names = self._channels()
        for _, header in seen.values():
            text = header.filter.text
            if not header.filter.known and text not in ("none", "RGB") and _key(text) not in names:
                found.unknown_filters[text] = found.unknown_filters.get(text, 0) + 1

    def _keep_one(self, identity: str, paths: list[Path], h: SubHeader, folder: Path, contributor: str | None,
                  longitude: float | None, found: Intake) -> None:
        rejected = int(any(_in_rejected(p, folder) for p in paths))
        row = self._db.execute("SELECT path FROM subs WHERE identity = ?", (identity,)).fetchone()
        if row is not None:
            found.duplicates += len(paths)
            place = row[0] if row[0] in map(str, paths) else str(paths[0])
            self._db.execute("UPDATE subs SET path = ?, in_rejected = ? WHERE identity = ?",
                             (place, rejected, identity))
            return
        found.added += 1
        found.duplicates += len(paths) - 1
        lon = h.longitude if h.longitude is not None else longitude
        self._db.execute(
            "INSERT INTO subs (identity, path, object, filter, start, seconds, contributor, telescope, camera, gain, "
            "temperature_c, longitude, in_rejected) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (identity, str(paths[0]), h.object_name, h.filter.text, h.start.isoformat(), h.seconds,
             h.observer or contributor or "unknown", h.telescope, h.camera, h.gain, h.temperature_c, lon, rejected))

    # --- marks and goals ---

    def mark(self, files: Iterable[Path], keep: bool, reason: str = "") -> int:
        """Keep or reject subs by hand; this always wins. A file not known raises UnknownName and changes nothing."""
        with self.store.transaction():
            count = 0
            for path in files:
                done = self._db.execute("UPDATE subs SET mark = ?, reason = ? WHERE path = ?",
                                        ("keep" if keep else "reject", reason, str(path.absolute())))
                if done.rowcount == 0:
                    raise UnknownName("This file is not in the log", do="Take its folder in first", file=path)
                count += done.rowcount
            return count

    def set_goals(self, goals: Sequence[tuple[str, float]]) -> None:
        """Hours wanted of channels; 0 takes a goal away."""
        with self.store.transaction():
            for name, hours in goals:
                if hours < 0:
                    raise InputError("A goal cannot be below zero", why=f"{name} {hours:g}",
                                     do="Give hours of 0 or more")
                self._db.execute("DELETE FROM goals WHERE channel = ?", (known_channel(name),))
                if hours > 0:
                    self._db.execute("INSERT INTO goals VALUES (?, ?)", (known_channel(name), hours * 3600))

    # --- reading ---

    def subs(self, object_name: str | None = None) -> list[Sub]:
        """All subs in the order of their start, of one object where asked."""
        names = self._channels()
        rows = self._db.execute(
            "SELECT path, object, filter, start, seconds, contributor, telescope, camera, gain, temperature_c, "
            "longitude, in_rejected, mark, reason FROM subs ORDER BY start, path").fetchall()
        nights = self._nights(rows)
        out = []
        for row in rows:
            if object_name is not None and row[1].strip().casefold() != object_name.strip().casefold():
                continue
            known = filter_name(row[2])
            channel = names.get(_key(row[2])) or (known.text if known.known or row[2] == "RGB" else "")
            kept = row[12] == "keep" if row[12] else not row[11]
            reason = row[13] or ("in a folder called rejected" if row[11] and not row[12] else "")
            out.append(Sub(row[0], row[1], channel, row[2], nights[row[3], row[10]], dt.datetime.fromisoformat(row[3]),
                           row[4], row[5], row[6], row[7], row[8], row[9], kept, reason))
        return out

    def _nights(self, rows: Sequence[Sequence[Any]]) -> dict[tuple[str, float | None], dt.date]:
        found = self.store.load()
        plan = found[0].plan if found else None
        home = plan.site_named().lon if plan is not None and plan.sites else None
        out: dict[tuple[str, float | None], dt.date] = {}
        lost = []
        for row in rows:
            start, longitude = row[3], row[10] if row[10] is not None else home
            if longitude is None:
                lost.append(start)
            else:
                out[start, row[10]] = night_at(dt.datetime.fromisoformat(start), longitude)
        gaps = nights_by_gap(dt.datetime.fromisoformat(s) for s in lost)
        out.update({(s, None): gaps[dt.datetime.fromisoformat(s)] for s in lost})
        return out

    def goals(self) -> dict[str, float]:
        """Seconds wanted by channel."""
        return dict(self._db.execute("SELECT channel, seconds FROM goals").fetchall())

    def _channels(self) -> dict[str, str]:
        return dict(self._db.execute("SELECT text, channel FROM filters").fetchall())

def known_channel(text: str) -> str:
    """A channel or a dual band. Raises UnknownName."""
    found: FilterName = filter_name(text)
    return found.text if found.known else channel_name(text)


def _key(text: str) -> str:
    return text.strip().casefold()


def _in_rejected(path: Path, folder: Path) -> bool:
    """In or below a folder called rejected, the one that is taken in included."""
    below = path.relative_to(folder.absolute()).parts[:-1]
    return any(p.casefold() == "rejected" for p in (folder.absolute().name, *below))

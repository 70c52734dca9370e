"""The log: every sub counts once, whatever is moved, renamed or taken in again."""

from __future__ import annotations

import datetime as dt
import itertools
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Self

from ...core.model.channel import FilterName, channel_name, filter_name
from ...core.model.errors import InputError, UnknownName
from ...core.model.progress import SILENT, Progress
from ...core.model.sub import night_at, nights_by_gap
from ..project.document import Document
from ..project.journal import Edit, Row, Work
from .intake import Intake, Light, Scan, scan, sub_files

_BATCH = 200
_SERIAL = itertools.count()


@dataclass(frozen=True, slots=True)
class Sub:
    """One sub of the log. ``channel`` is empty where the filter is not known; ``file`` and
    ``start`` where the sub was typed. ``mark`` is keep or reject where it was decided by hand.
    """

    file: str
    object_name: str
    channel: str
    filter: str
    night: dt.date
    start: dt.datetime | None
    seconds: float
    contributor: str
    telescope: str
    camera: str
    gain: float | None
    temperature_c: float | None
    kept: bool
    reason: str
    identity: str = ""
    mark: str = ""
    scale_arcsec: float | None = None
    longitude: float | None = None


class Log:
    """The log of an open project."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self._store = document.store

    @classmethod
    def open(cls, folder: Path, create: bool = False) -> Self:
        """The log of a project that is not open; ``create`` makes it where there is none. Raises
        ProjectError.
        """
        if not create and not (folder / "project.db").is_file():
            raise InputError(
                "There is no such project", do="Check the path, or take subs in first", file=folder
            )
        return cls(Document(folder))

    def close(self) -> None:
        self.document.close()

    def edit(self, label: str, work: Work, merge: str | None = None) -> None:
        """One undoable gesture."""
        self.document.do(label, self.document.saved, merge, work)

    # --- taking in ---

    def intake(
        self,
        folder: Path,
        contributor: str | None = None,
        longitude: float | None = None,
        filters: Sequence[tuple[str, str]] = (),
        progress: Progress = SILENT,
    ) -> Intake:
        """Take in all subs of a folder and below: one gesture. Stores what was read and never
        judges.

        A killed intake keeps whole batches; doing it again completes it.
        """
        files = sub_files(folder)
        merge = f"intake {next(_SERIAL)} {dt.datetime.now().timestamp()}"
        label = f"take in {folder.name}"
        named = [(_key(text), known_channel(channel)) for text, channel in filters]
        if named:
            self.edit(label, lambda e: _name_filters(e, named), merge)
        made = scan(folder, files, progress.part(0, 0.9))
        lights = list(made.lights.items())
        for first in range(0, len(lights), _BATCH):
            progress.step(0.9 + 0.1 * first / len(lights), "writing the log")
            part = lights[first : first + _BATCH]
            self.edit(label, partial(self._keep, part, made, contributor, longitude), merge)
        self._list_others(made)
        progress.step(1.0)
        return made.found

    def arrive(
        self, folder: Path, files: Sequence[Path], contributor: str | None = None
    ) -> tuple[Intake, bool]:
        """Take in files that came by themselves, beside the history of gestures; whether the log
        changed.
        """
        made = scan(folder, files)
        changed = self._store.record(
            partial(self._keep, list(made.lights.items()), made, contributor, None)
        )
        self._list_others(made)
        return made.found, changed

    def _keep(
        self,
        lights: Sequence[tuple[str, Light]],
        made: Scan,
        contributor: str | None,
        longitude: float | None,
        edit: Edit,
    ) -> None:
        names = self.filter_names()
        for identity, light in lights:
            self._keep_one(edit, identity, light, made.found, contributor, longitude)
            text = light.header.filter.text
            if (
                not light.header.filter.known
                and text not in ("none", "RGB")
                and _key(text) not in names
            ):
                made.found.unknown_filters[text] = made.found.unknown_filters.get(text, 0) + 1

    def _keep_one(
        self,
        edit: Edit,
        identity: str,
        light: Light,
        found: Intake,
        contributor: str | None,
        longitude: float | None,
    ) -> None:
        h, rejected = light.header, int(light.rejected)
        known = edit.get("subs", identity)
        if known is not None:
            found.duplicates += len(light.paths)
            place = known["path"] if known["path"] in map(str, light.paths) else str(light.paths[0])
            edit.put("subs", identity, {"path": place, "in_rejected": rejected})
            return
        found.added += 1
        found.duplicates += len(light.paths) - 1
        lon = h.longitude if h.longitude is not None else longitude
        edit.put(
            "subs",
            identity,
            {
                "path": str(light.paths[0]),
                "object": h.object_name,
                "filter": h.filter.text,
                "start": h.start.isoformat(),
                "seconds": h.seconds,
                "contributor": h.observer or contributor or "unknown",
                "telescope": h.telescope,
                "camera": h.camera,
                "gain": h.gain,
                "temperature_c": h.temperature_c,
                "longitude": lon,
                "in_rejected": rejected,
                "mark": None,
                "reason": "",
                "scale_arcsec": h.scale_arcsec,
            },
        )

    def _list_others(self, made: Scan) -> None:
        """Darks, flats, bias and unknown frames: listed, not counted."""
        if made.others:
            with self._store.writing() as db:
                db.executemany("INSERT OR REPLACE INTO others VALUES (?, ?, ?)", made.others)

    # --- marks, runs, goals ---

    def mark(self, files: Iterable[Path], keep: bool, reason: str = "") -> int:
        """Keep or reject subs by hand; this always wins. A file not known raises UnknownName and
        changes nothing.
        """
        identities = []
        for path in files:
            rows = self._store.rows(
                "SELECT identity FROM subs WHERE path = ?", (str(path.absolute()),)
            )
            if not rows:
                raise UnknownName(
                    "This file is not in the log", do="Take its folder in first", file=path
                )
            identities += [str(r[0]) for r in rows]
        self.mark_subs(dict.fromkeys(identities, ("keep" if keep else "reject", reason)))
        return len(identities)

    def mark_subs(self, marks: Mapping[str, tuple[str | None, str]], label: str = "") -> None:
        """Mark subs by identity with keep, reject or None, each with its reason: one gesture."""
        kept = sum(m[0] == "keep" for m in marks.values())
        words = f"keep {kept} subs" if kept == len(marks) else f"decide on {len(marks)} subs"

        def work(edit: Edit) -> None:
            for identity, (mark, reason) in marks.items():
                if edit.get("subs", identity) is not None:
                    edit.put("subs", identity, {"mark": mark, "reason": reason})

        self.edit(label or words, work)

    def moved(self, places: Mapping[Path, Path]) -> None:
        """Files that lie elsewhere now: a fact, not a gesture."""
        known = {str(old): str(new) for old, new in places.items()}

        def work(edit: Edit) -> None:
            for old, new in known.items():
                for row in self._store.rows("SELECT identity FROM subs WHERE path = ?", (old,)):
                    edit.put("subs", str(row[0]), {"path": new})

        self._store.record(work)

    def set_goals(self, goals: Sequence[tuple[str, float]]) -> None:
        """Hours wanted of channels; 0 takes a goal away."""
        state = self.document.saved
        wanted = dict(state.plan.goals)
        for name, hours in goals:
            if hours < 0:
                raise InputError(
                    "A goal cannot be below zero",
                    why=f"{name} {hours:g}",
                    do="Give hours of 0 or more",
                )
            if hours > 2000:
                raise InputError(
                    "A goal cannot be so large", why=f"{name} {hours:g}", do="Give up to 2000 hours"
                )
            wanted.pop(known_channel(name), None)
            if hours > 0:
                wanted[known_channel(name)] = hours
        plan = state.plan.model_copy(
            update={"goals": wanted, "goal_mode": "typed" if wanted else "deficit"}
        )
        self.document.do("hours wanted", state.model_copy(update={"plan": plan}))

    def name_filter(self, text: str, channel: str) -> None:
        """Say what an unknown filter is, for all subs of it."""
        self.edit(
            f"call the filter {text} {channel}", lambda e: _name_filters(e, [(_key(text), channel)])
        )

    # --- reading ---

    def subs(self, object_name: str | None = None) -> list[Sub]:
        """All subs in the order of their start, of one object where asked; typed ones where files
        are missing.
        """
        names = self.filter_names()
        rows: list[Any] = self._store.rows(
            "SELECT path, object, filter, start, seconds, contributor, telescope, camera, "
            "gain, temperature_c, longitude, in_rejected, mark, reason, identity, scale_arcsec "
            "FROM subs ORDER BY start, path"
        )
        nights = self._nights(rows)
        channels: dict[str, str] = {}
        out = []
        for row in rows:
            if row[2] not in channels:
                known = filter_name(row[2])
                channels[row[2]] = names.get(_key(row[2])) or (
                    known.text if known.known or row[2] == "RGB" else ""
                )
            kept = row[12] == "keep" if row[12] else not row[11]
            reason = row[13] or ("in a folder called rejected" if row[11] and not row[12] else "")
            start, night = nights[row[3], row[10]]
            out.append(
                Sub(
                    row[0],
                    row[1],
                    channels[row[2]],
                    row[2],
                    night,
                    start,
                    row[4],
                    row[5],
                    row[6],
                    row[7],
                    row[8],
                    row[9],
                    kept,
                    reason,
                    row[14],
                    row[12] or "",
                    row[15],
                    row[10],
                )
            )
        out += self._typed(out)
        if object_name is not None:
            wanted = object_name.strip().casefold()
            out = [s for s in out if s.object_name.strip().casefold() == wanted]
        return out

    def runs(self) -> list[Row]:
        """The typed runs as they stand."""
        names = [str(r[1]) for r in self._store.rows("PRAGMA table_info(runs)")]
        return [
            dict(zip(names, r, strict=True))
            for r in self._store.rows("SELECT * FROM runs ORDER BY night, id")
        ]

    def _typed(self, subs: Sequence[Sub]) -> list[Sub]:
        """Typed runs as subs, less those of the same night, person, channel and length that were
        taken in since.
        """
        held: dict[tuple[object, ...], list[int]] = defaultdict(lambda: [0, 0])
        for sub in subs:
            held[sub.night, sub.contributor, sub.channel, round(sub.seconds)][
                0 if sub.kept else 1
            ] += 1
        out = []
        for run in self.runs():
            night = dt.date.fromisoformat(run["night"])
            have = held[night, run["contributor"], run["channel"], round(run["seconds"])]
            left = max(run["kept"] + run["rejected"] - sum(have), 0)
            kept = min(max(run["kept"] - have[0], 0), left)
            # what a second run of the same kind still has to bring
            have[0], have[1] = max(have[0] - run["kept"], 0), max(have[1] - run["rejected"], 0)
            known = filter_name(run["channel"])
            for number in range(left):
                out.append(
                    Sub(
                        "",
                        run["object"],
                        run["channel"],
                        known.text,
                        night,
                        None,
                        run["seconds"],
                        run["contributor"],
                        run["telescope"],
                        run["camera"],
                        run["gain"],
                        run["temperature_c"],
                        number < kept,
                        "" if number < kept else "typed as rejected",
                        run["id"],
                    )
                )
        return out

    def _nights(
        self, rows: Sequence[Sequence[Any]]
    ) -> dict[tuple[str, float | None], tuple[dt.datetime, dt.date]]:
        plan = self.document.saved.plan
        home = plan.site_named().lon if plan.sites else None
        out: dict[tuple[str, float | None], tuple[dt.datetime, dt.date]] = {}
        lost: dict[str, dt.datetime] = {}
        for row in rows:
            start = dt.datetime.fromisoformat(row[3])
            longitude = row[10] if row[10] is not None else home
            if longitude is None:
                lost[row[3]] = start
            else:
                out[row[3], row[10]] = start, night_at(start, longitude)
        gaps = nights_by_gap(lost.values())
        out.update({(text, None): (start, gaps[start]) for text, start in lost.items()})
        return out

    def goals(self) -> dict[str, float]:
        """Seconds wanted by channel, where they were typed."""
        return {n: h * 3600 for n, h in self.document.saved.plan.goals.items()}

    def filter_names(self) -> dict[str, str]:
        """What the person said of unknown filters."""
        return {str(t): str(c) for t, c in self._store.rows("SELECT text, channel FROM filters")}


def run_key(
    night: str,
    contributor: str,
    telescope: str,
    camera: str,
    channel: str,
    seconds: float,
    gain: float | None,
) -> str:
    """What makes subs one run."""
    return "|".join(
        (
            night,
            contributor,
            telescope,
            camera,
            channel,
            f"{seconds:g}",
            f"{gain:g}" if gain is not None else "",
        )
    )


def known_channel(text: str) -> str:
    """A channel or a dual band. Raises UnknownName."""
    found: FilterName = filter_name(text)
    return found.text if found.known else channel_name(text)


def _name_filters(edit: Edit, named: Sequence[tuple[str, str]]) -> None:
    for text, channel in named:
        edit.put("filters", text, {"channel": channel})


def _key(text: str) -> str:
    return text.strip().casefold()

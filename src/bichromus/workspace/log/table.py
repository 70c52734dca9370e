"""The log: every sub counts once, whatever is moved, renamed or taken in again."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Self

from ...core.model.channel import FilterName, channel_name, filter_name
from ...core.model.errors import InputError, UnknownName
from ...core.model.log_columns import READ
from ...core.model.sub import night_at, nights_by_gap
from ..project.document import Command, Document
from ..project.journal import Edit, LogChange, Row
from ..project.state import ProjectState
from .sub import Sub, sub_of, typed_sub

MOST_GOAL_H = 2000.0
"""Hours beyond which a goal is a slip of the keyboard."""


class LogTable:
    """The log of an open project."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.store = document.store

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
        """Close the project."""
        self.document.close()

    def edit(self, label: str, change: LogChange, merge: str | None = None) -> None:
        """One undoable gesture. Raises WriteFailed, ProjectError, and what ``change`` raises."""
        self.document.update(label, merge=merge, log_change=change)

    # --- marks, runs, goals ---

    def mark(self, files: Iterable[Path], keep: bool, reason: str = "") -> int:
        """Keep or reject subs by hand; this always wins. A file not known raises UnknownName and
        changes nothing.
        """
        identities = []
        for path in files:
            rows = self.store.rows(
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
                for row in self.store.rows("SELECT identity FROM subs WHERE path = ?", (old,)):
                    edit.put("subs", str(row[0]), {"path": new})

        self.store.record(work)

    def set_goals(self, goals: Sequence[tuple[str, float]]) -> None:
        """Hours wanted of channels; 0 takes a goal away. Raises InputError."""
        self.document.do(goals_command(goals))

    def name_filter(self, text: str, channel: str) -> None:
        """Say what an unknown filter is, for all subs of it."""
        self.edit(
            f"call the filter {text} {channel}",
            lambda e: name_filters(e, [(filter_key(text), channel)]),
        )

    # --- reading ---

    def subs(self, object_name: str | None = None) -> list[Sub]:
        """All subs in the order of their start, of one object where asked; typed ones where files
        are missing.
        """
        names = self.filter_names()
        read = ", ".join(c.id for c in READ)
        rows: list[Any] = self.store.rows(
            "SELECT path, object, filter, start, seconds, contributor, telescope, camera, "
            f"longitude, in_rejected, mark, reason, identity, scale_arcsec, {read} "
            "FROM subs ORDER BY start, path"
        )
        nights = self._nights([(r[3], r[8]) for r in rows])
        channels: dict[str, str] = {}
        out = []
        for row in rows:
            if row[2] not in channels:
                channels[row[2]] = _channel_of(row[2], names)
            out.append(sub_of(row, channels[row[2]], *nights[row[3], row[8]]))
        out += self._typed(out)
        if object_name is not None:
            wanted = object_name.strip().casefold()
            out = [s for s in out if s.object_name.strip().casefold() == wanted]
        return out

    def runs(self) -> list[Row]:
        """The typed runs as they stand."""
        names = [str(r[1]) for r in self.store.rows("PRAGMA table_info(runs)")]
        return [
            dict(zip(names, r, strict=True))
            for r in self.store.rows("SELECT * FROM runs ORDER BY night, id")
        ]

    def notes(self) -> dict[str, Row]:
        """Notes on runs read from files, by the key of the run."""
        names = [str(r[1]) for r in self.store.rows("PRAGMA table_info(notes)")]
        rows = (dict(zip(names, r, strict=True)) for r in self.store.rows("SELECT * FROM notes"))
        return {str(row["id"]): row for row in rows}

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
            out += [typed_sub(run, night, number < kept) for number in range(left)]
        return out

    def _nights(
        self, moments: Sequence[tuple[str, float | None]]
    ) -> dict[tuple[str, float | None], tuple[dt.datetime, dt.date]]:
        """Start and night of each (start as text, longitude)."""
        plan = self.document.saved.plan
        home = plan.site_named().lon if plan.sites else None
        out: dict[tuple[str, float | None], tuple[dt.datetime, dt.date]] = {}
        lost: dict[str, dt.datetime] = {}
        for text, own in moments:
            start = dt.datetime.fromisoformat(text)
            longitude = own if own is not None else home
            if longitude is None:
                lost[text] = start
            else:
                out[text, own] = start, night_at(start, longitude)
        gaps = nights_by_gap(lost.values())
        out.update({(text, None): (start, gaps[start]) for text, start in lost.items()})
        return out

    def goals(self) -> dict[str, float]:
        """Seconds wanted by channel, where they were typed."""
        return {n: h * 3600 for n, h in self.document.saved.plan.goals.items()}

    def filter_names(self) -> dict[str, str]:
        """What the person said of unknown filters."""
        return {str(t): str(c) for t, c in self.store.rows("SELECT text, channel FROM filters")}


def goals_command(goals: Sequence[tuple[str, float]]) -> Command:
    """Hours wanted of channels; 0 takes a goal away. Raises InputError."""
    for name, hours in goals:
        if hours < 0:
            raise InputError(
                "A goal cannot be below zero",
                why=f"{name} {hours:g}",
                do="Give hours of 0 or more",
            )
        if hours > MOST_GOAL_H:
            raise InputError(
                "A goal cannot be so large",
                why=f"{name} {hours:g}",
                do=f"Give up to {MOST_GOAL_H:.0f} hours",
            )
    named = [(known_channel(name), hours) for name, hours in goals]

    def change(state: ProjectState) -> ProjectState:
        wanted = {**state.plan.goals, **dict(named)}
        left = {n: h for n, h in wanted.items() if h > 0}
        return state.planned_with(goals=left, goal_mode="typed" if left else "deficit")

    return Command("hours wanted", change)


def _channel_of(text: str, names: Mapping[str, str]) -> str:
    """The channel of a filter's text: what the person said, else what the text says."""
    known = filter_name(text)
    own = known.text if known.known or text == "RGB" else ""
    return names.get(filter_key(text)) or own


def known_channel(text: str) -> str:
    """A channel or a dual band. Raises UnknownName."""
    found: FilterName = filter_name(text)
    return found.text if found.known else channel_name(text)


def name_filters(edit: Edit, named: Sequence[tuple[str, str]]) -> None:
    """Write down what filters are, by their key."""
    for text, channel in named:
        edit.put("filters", text, {"channel": channel})


def filter_key(text: str) -> str:
    """A filter's text as it is looked up."""
    return text.strip().casefold()

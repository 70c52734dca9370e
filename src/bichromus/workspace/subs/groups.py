"""Reviewing subs: groups of one channel, rig, length and night; their figures, suggestions and what
these are worth.
"""

from __future__ import annotations

import datetime as dt
import io
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import Any, Final

import numpy as np

from ...core.measure.subs import Grade, SubMeasure, grade
from ...core.measure.worth import Effect, leaving_out, still_helps, worths
from ...core.model.errors import WriteFailed
from ...core.model.progress import SILENT, Progress
from ..log.export import channel_order
from ..log.table import Sub
from ..log.view import rig_of
from ..project.store import Store
from .frames import LockedStretch
from .grading import measure_files

_PEAKS: Final = 120
GroupKey = tuple[str, str, str, str, float]
"""Night, contributor, rig, channel, seconds."""


@dataclass(frozen=True)
class Reviewed:
    """One sub of a group. ``measure`` is None while it was not measured, or cannot be read
    (``grade`` says so).
    """

    sub: Sub
    measure: SubMeasure | None
    grade: Grade | None
    worth: float | None

    @property
    def helps(self) -> bool:
        """Poor, but better kept with a low weight."""
        return self.grade is not None and still_helps(self.grade.causes, self.worth or 0.0)

    @property
    def suggested_out(self) -> bool:
        """The program would leave it out."""
        return self.grade is not None and not self.grade.keep and not self.helps

    @property
    def waiting(self) -> bool:
        """There is a suggestion, and the person has not decided."""
        return (
            self.grade is not None and not self.grade.keep and not self.sub.mark and self.sub.kept
        )

    @property
    def reason(self) -> str:
        """Cause and figure, as they are kept with the mark."""
        if self.grade is None or self.grade.keep:
            return ""
        return f"{self.grade.causes[0]}: {self.grade.reason}"


@dataclass(frozen=True)
class Group:
    """Subs in the order of their start, judged against each other."""

    key: GroupKey
    subs: tuple[Reviewed, ...]
    effect: Effect
    causes: dict[str, int] = field(default_factory=dict)

    @property
    def channel(self) -> str:
        return self.key[3]

    @property
    def waiting(self) -> int:
        return sum(r.waiting for r in self.subs)

    @property
    def measured(self) -> int:
        return sum(r.grade is not None for r in self.subs)

    @property
    def night_words(self) -> str:
        return f"{dt.date.fromisoformat(self.key[0]):%-d %B}"

    @property
    def label(self) -> str:
        """As in O3, 16 Mar, Ridge, 30 × 300 s."""
        night = dt.date.fromisoformat(self.key[0])
        return (
            f"{self.channel or '?'}, {night:%-d %b %y}, {self.key[1]}, {len(self.subs)} × "
            f"{self.key[4]:g} s"
        )

    def stretch(self) -> LockedStretch:
        """One stretch for all of them, by the good ones."""
        known = [
            r for r in self.subs if r.measure is not None and (r.grade is None or r.grade.keep)
        ]
        known = known or [r for r in self.subs if r.measure is not None]
        if not known:
            return LockedStretch(0.0, 0.0)
        return LockedStretch(
            float(median(r.measure.background for r in known if r.measure)),
            float(median(r.measure.noise for r in known if r.measure)),
        )


def key_of(sub: Sub) -> GroupKey:
    """The group that a sub belongs to."""
    return (
        sub.night.isoformat(),
        sub.contributor,
        rig_of(sub.telescope, sub.camera),
        sub.channel,
        sub.seconds,
    )


def group_keys(subs: Sequence[Sub]) -> dict[GroupKey, list[Sub]]:
    """All groups that have files, the newest night first."""
    out: dict[GroupKey, list[Sub]] = {}
    for sub in subs:
        if sub.file:
            out.setdefault(key_of(sub), []).append(sub)
    return dict(
        sorted(
            out.items(),
            key=lambda i: (
                -dt.date.fromisoformat(i[0][0]).toordinal(),
                i[0][1],
                channel_order(i[0][3]),
                i[0][4],
            ),
        )
    )


def load_measures(store: Store, identities: Sequence[str]) -> dict[str, SubMeasure]:
    """Measures made before."""
    out: dict[str, SubMeasure] = {}
    for first in range(0, len(identities), 500):
        part = tuple(identities[first : first + 500])
        marks = ", ".join("?" * len(part))
        rows: list[Any] = store.rows(
            "SELECT identity, background, noise, stars, fwhm_px, ellipticity, trail, peaks "
            f"FROM grades WHERE identity IN ({marks})",
            part,
        )
        for row in rows:
            x, y, flux = np.load(io.BytesIO(row[7]))
            out[row[0]] = SubMeasure(
                row[1], row[2], row[3], row[4], row[5], bool(row[6]), (x, y), flux
            )
    return out


def keep_measure(store: Store, identity: str, m: SubMeasure) -> None:
    """Keep a measure, so that a sub is measured once."""
    peaks = io.BytesIO()
    np.save(
        peaks,
        np.stack([m.places[0][:_PEAKS], m.places[1][:_PEAKS], m.flux[:_PEAKS]]).astype(np.float32),
    )
    with store.writing() as db:
        db.execute(
            "INSERT OR REPLACE INTO grades VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                identity,
                m.background,
                m.noise,
                m.stars,
                m.fwhm_px,
                m.ellipticity,
                int(m.trail),
                peaks.getvalue(),
            ),
        )


def make_group(
    key: GroupKey, subs: Sequence[Sub], measures: dict[str, SubMeasure], broken: dict[str, str]
) -> Group:
    """Judge the subs of a group that are measured; the rest wait."""
    known = [s for s in subs if s.identity in measures]
    grades = dict(
        zip((s.identity for s in known), grade([measures[s.identity] for s in known]), strict=True)
    )
    for sub in subs:
        if sub.identity in broken:
            grades[sub.identity] = Grade(
                None, ("broken",), f"cannot be read: {broken[sub.identity]}"
            )
    judged = [s for s in subs if s.identity in grades]
    worth = worths([measures.get(s.identity) for s in judged], [grades[s.identity] for s in judged])
    by_id = dict(zip((s.identity for s in judged), worth, strict=True))
    reviewed = tuple(
        Reviewed(
            s,
            measures.get(s.identity),
            grades.get(s.identity),
            float(by_id[s.identity]) if s.identity in by_id else None,
        )
        for s in subs
    )
    out = [r.suggested_out and r.waiting for r in reviewed if r.grade is not None]
    effect = leaving_out(
        [r.measure for r in reviewed if r.grade is not None],
        [r.grade for r in reviewed if r.grade is not None],
        out,
        [r.sub.kept for r in reviewed if r.grade is not None],
        [r.sub.seconds for r in reviewed if r.grade is not None],
    )
    causes = Counter(
        r.grade.causes[0] for r in reviewed if r.grade is not None and r.suggested_out and r.waiting
    )
    return Group(key, reviewed, effect, dict(causes))


def effect_of(group: Group, out: Sequence[bool]) -> Effect:
    """What it does to leave these subs of a group out."""
    judged = [(r, o) for r, o in zip(group.subs, out, strict=True) if r.grade is not None]
    return leaving_out(
        [r.measure for r, _ in judged],
        [r.grade for r, _ in judged if r.grade is not None],
        [o for _, o in judged],
        [r.sub.kept for r, _ in judged],
        [r.sub.seconds for r, _ in judged],
    )


def keep_cut(files: Sequence[Path]) -> dict[Path, Path]:
    """Move files into a folder ``rejected`` beside each; where each lies now. Raises WriteFailed
    before any is moved.

    Only done when asked for; a file of that name that lies there already is never written over.
    """
    places = {
        f: f.parent / "rejected" / f.name for f in files if f.parent.name.casefold() != "rejected"
    }
    for source, place in places.items():
        if place.exists():
            raise WriteFailed(
                "A rejected sub of this name lies there already",
                do="Rename one of them",
                file=place,
            )
        if not source.exists():
            raise WriteFailed(
                "A sub is no longer where it was", do="Take its folder in again", file=source
            )
    done: dict[Path, Path] = {}
    for source, place in places.items():
        try:
            place.parent.mkdir(exist_ok=True)
            source.rename(place)
        except OSError as error:
            for old, new in done.items():  # all or nothing
                new.rename(old)
            raise WriteFailed(
                "The rejected subs could not be moved",
                why=error.strerror or str(error),
                do="Check the rights of their folder",
                file=source,
            ) from error
        done[source] = place
    return done


def measure_missing(
    store: Store,
    subs: Sequence[Sub],
    measures: dict[str, SubMeasure],
    broken: dict[str, str],
    progress: Progress = SILENT,
) -> None:
    """Measure what was not measured yet, two at a time; ``measures`` and ``broken`` fill up. Raises
    Cancelled.
    """
    todo = [s for s in subs if s.identity not in measures and s.identity not in broken]
    if not todo:
        return
    known = sorted(
        m.fwhm_px
        for s in subs
        if (m := measures.get(s.identity)) is not None and m.fwhm_px is not None
    )
    width = known[len(known) // 2] if known else None
    found = measure_files([Path(s.file) for s in todo], width)
    for number, (sub, made) in enumerate(zip(todo, found, strict=True)):
        progress.step(number / len(todo), f"measuring {Path(sub.file).name}")
        if isinstance(made, SubMeasure):
            measures[sub.identity] = made
            keep_measure(store, sub.identity, made)
        else:
            broken[sub.identity] = made.why or made.what

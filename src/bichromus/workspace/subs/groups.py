"""Reviewing subs: groups of one channel, rig, length and night; their figures, suggestions and what
these are worth.
"""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from statistics import median
from typing import Final, NamedTuple

from ...core.measure.grading import Grade, grade
from ...core.measure.subs import SubMeasure
from ...core.measure.worth import Effect, leaving_out, still_helps, worths
from ...core.model.channel import channel_order
from ...core.model.errors import WriteFailed
from ...core.model.progress import Progress
from ..log.runs import rig_of
from ..log.sub import Sub
from .frames import LockedStretch
from .measures import KnownMeasures, Measures

_NO_EFFECT: Final = Effect(0, 0.0, 0.0, 0.0)


class GroupKey(NamedTuple):
    """What makes subs one group; the night as an ISO date."""

    night: str
    contributor: str
    rig: str
    channel: str
    seconds: float

    @property
    def night_of_rig(self) -> tuple[str, str, str]:
        """Equal for all groups of one rig and night."""
        return self.night, self.contributor, self.rig


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
        """The channel of all its subs."""
        return self.key.channel

    @property
    def waiting(self) -> int:
        """Subs that want a decision."""
        return sum(r.waiting for r in self.subs)

    @property
    def measured(self) -> int:
        """Subs that were measured, or cannot be."""
        return sum(r.grade is not None for r in self.subs)

    @property
    def night_words(self) -> str:
        """The night as it is said."""
        return f"{dt.date.fromisoformat(self.key.night):%-d %B}"

    @property
    def label(self) -> str:
        """As in O3, 16 Mar, Ridge, 30 × 300 s."""
        night = dt.date.fromisoformat(self.key.night)
        return (
            f"{self.channel or '?'}, {night:%-d %b %y}, {self.key.contributor}, {len(self.subs)} × "
            f"{self.key.seconds:g} s"
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
    rig = rig_of(sub.telescope, sub.camera)
    return GroupKey(sub.night.isoformat(), sub.contributor, rig, sub.channel, sub.seconds)


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
                -dt.date.fromisoformat(i[0].night).toordinal(),
                i[0].contributor,
                channel_order(i[0].channel),
                i[0].seconds,
            ),
        )
    )


def make_group(key: GroupKey, subs: Sequence[Sub], known: KnownMeasures) -> Group:
    """Judge the subs of a group that are measured; the rest wait."""
    measured = [s.identity for s in subs if s.identity in known.measures]
    judgement = grade([known.measures[i] for i in measured])
    grades = dict(zip(measured, judgement, strict=True))
    for identity, why in known.broken.items():
        grades[identity] = Grade(None, ("broken",), f"cannot be read: {why}")
    judged = [s.identity for s in subs if s.identity in grades]
    found = worths([known.measures.get(i) for i in judged], [grades[i] for i in judged])
    worth = {i: float(w) for i, w in zip(judged, found, strict=True)}
    reviewed = tuple(
        Reviewed(s, known.measures.get(s.identity), grades.get(s.identity), worth.get(s.identity))
        for s in subs
    )
    group = Group(key, reviewed, _NO_EFFECT)
    out = [r.suggested_out and r.waiting for r in reviewed]
    causes = Counter(r.grade.causes[0] for r, o in zip(reviewed, out, strict=True) if o and r.grade)
    return replace(group, effect=effect_of(group, out), causes=dict(causes))


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


def move_to_rejected(files: Sequence[Path]) -> dict[Path, Path]:
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


def measured_groups(
    measures: Measures, parts: Mapping[GroupKey, Sequence[Sub]], progress: Progress
) -> list[Group]:
    """Groups with what was not measured of them measured first. Raises Cancelled."""
    groups = []
    for number, (key, subs) in enumerate(parts.items()):
        part = progress.part(number / len(parts), (number + 1) / len(parts))
        measures.measure_missing(subs, part)
        groups.append(make_group(key, subs, measures.known(subs)))
    return groups

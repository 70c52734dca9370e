"""Subs gathered into runs, and runs into the nights of one person."""

from __future__ import annotations

import datetime as dt
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from statistics import median

from ...core.model.channel import channel_order
from ...core.model.log_columns import COLUMNS, NOTED, READ, STAR_SIZE, Figures
from ..project.journal import Row
from .sub import Sub, run_key


@dataclass(frozen=True)
class SkyFigures:
    """Means over a night's runs, from site and time: degrees, lit share 0 to 1, V mag/arcsec2."""

    lit: float
    moon_altitude: float
    moon_distance: float
    altitude: float
    sky_mag: float


@dataclass(frozen=True)
class Run:
    """Subs of one person, rig, channel, length and gain in one night. Times are of the first and
    last sub.
    """

    key: str
    night: dt.date
    contributor: str
    rig: str
    channel: str
    seconds: float
    kept: int
    rejected: int
    causes: tuple[tuple[str, int], ...] = ()
    figures: Figures = field(default_factory=dict)
    notes: str = ""
    typed: bool = False
    start: dt.datetime | None = None
    end: dt.datetime | None = None

    @property
    def fwhm_arcsec(self) -> float | None:
        """Star size."""
        return self.figures.get(STAR_SIZE)

    @property
    def seconds_kept(self) -> float:
        """Exposure of the kept subs, s."""
        return self.kept * self.seconds


@dataclass(frozen=True)
class NightRow:
    """One night of one person."""

    night: dt.date
    contributor: str
    runs: tuple[Run, ...]
    sky: SkyFigures | None = None

    @property
    def key(self) -> tuple[str, str]:
        """Night and person."""
        return self.night.isoformat(), self.contributor

    @property
    def fwhm_arcsec(self) -> float | None:
        """Median star size of its runs."""
        found = [r.fwhm_arcsec for r in self.runs if r.fwhm_arcsec is not None]
        return float(median(found)) if found else None

    def hours(self, channel: str) -> float:
        """Hours kept of a channel."""
        return sum(r.seconds_kept for r in self.runs if r.channel == channel) / 3600

    def lost(self, channel: str) -> float:
        """Hours rejected of a channel."""
        return sum(r.rejected * r.seconds for r in self.runs if r.channel == channel) / 3600

    @property
    def open_hours(self) -> float:
        """Hours of open shutter, rejected subs included."""
        return sum((r.kept + r.rejected) * r.seconds for r in self.runs) / 3600

    @property
    def span_hours(self) -> float | None:
        """From the first sub's start to the last one's end; None where times are not known."""
        known = [(r.start, r.end) for r in self.runs if r.start and r.end]
        if len(known) < len(self.runs) or not known:
            return None
        return (max(e for _, e in known) - min(s for s, _ in known)).total_seconds() / 3600

    def lost_to(self) -> dict[str, float]:
        """Hours rejected, by cause."""
        out: dict[str, float] = defaultdict(float)
        for run in self.runs:
            for cause, count in run.causes:
                out[cause] += count * run.seconds / 3600
        return dict(out)


def rig_of(telescope: str, camera: str) -> str:
    """A rig's name from what headers say."""
    return ", ".join(p for p in (telescope, camera) if p) or "not named"


def cause_of(reason: str) -> str:
    """The word before the colon of a reason, as in ``cloud: ...``."""
    head, mark, _ = reason.partition(":")
    return (
        head.strip() if mark and len(head) <= 16 else ("by hand" if reason or not mark else reason)
    )


def gather_runs(
    subs: Sequence[Sub],
    widths: Mapping[str, float],
    typed: Mapping[str, Row],
    notes: Mapping[str, Row],
) -> list[Run]:
    """Subs as runs: of one night, person, rig, channel, length, and equal figures of the columns
    that split runs. Typed subs keep the run that was typed.
    """
    groups: dict[tuple[object, ...], list[Sub]] = defaultdict(list)
    for s in subs:
        who = s.night, s.contributor, s.telescope, s.camera, s.channel, s.seconds, s.run_figures
        groups[(*who, "" if s.start else s.identity)].append(s)
    return [_run(part, widths, typed, notes) for part in groups.values()]


def _run(
    part: list[Sub],
    widths: Mapping[str, float],
    typed: Mapping[str, Row],
    notes: Mapping[str, Row],
) -> Run:
    s = part[0]
    kept = [p for p in part if p.kept]
    causes = Counter(cause_of(p.reason) for p in part if not p.kept)
    base = Run(
        "",
        s.night,
        s.contributor,
        rig_of(s.telescope, s.camera),
        s.channel,
        s.seconds,
        len(kept),
        len(part) - len(kept),
        tuple(causes.most_common()),
        {c.id: _middle(p.figures.get(c.id) for p in part) for c in READ},
    )
    if s.start is None:
        row = typed[s.identity]
        figures = {**base.figures, **{c.id: row[c.id] for c in COLUMNS if not c.keywords}}
        return replace(base, key=s.identity, typed=True, figures=figures, notes=row["notes"])
    key = run_key(
        s.night.isoformat(),
        s.contributor,
        s.telescope,
        s.camera,
        s.channel,
        s.seconds,
        s.run_figures,
    )
    note = notes.get(key, {})
    fwhm = (
        widths[p.identity] * p.scale_arcsec
        for p in kept or part
        if p.scale_arcsec and p.identity in widths
    )
    figures = {
        **base.figures,
        STAR_SIZE: _middle(fwhm),
        **{c.id: note.get(c.id) for c in NOTED},
    }
    starts = [p.start for p in part if p.start is not None]
    return replace(
        base,
        key=key,
        figures=figures,
        notes=note.get("notes", ""),
        start=min(starts),
        end=max(starts) + dt.timedelta(seconds=s.seconds),
    )


def _middle(values: Iterable[float | None]) -> float | None:
    """The median of what is known."""
    known = [v for v in values if v is not None]
    return float(median(known)) if known else None


def gather_nights(runs: Sequence[Run]) -> list[NightRow]:
    """Runs as the nights of each person, in order."""
    groups: dict[tuple[dt.date, str], list[Run]] = defaultdict(list)
    for run in runs:
        groups[run.night, run.contributor].append(run)
    return [
        NightRow(
            night, who, tuple(sorted(part, key=lambda r: (channel_order(r.channel), r.seconds)))
        )
        for (night, who), part in sorted(groups.items(), key=lambda i: i[0])
    ]

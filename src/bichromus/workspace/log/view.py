"""The log as it is looked at: nights as rows, channels as columns, runs within a night."""

from __future__ import annotations

import datetime as dt
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from statistics import median
from typing import Final

import numpy as np

from ...core.model.channel import channel_order
from ...core.model.log_columns import COLUMNS, NOTED, READ, STAR_SIZE, Figures
from ...core.plan.earth import Place
from ...core.plan.moment import conditions
from ...core.plan.night import Target, julian
from ..library.things import PlanState, SiteThing
from ..project.journal import Row
from .table import Sub, run_key

SEASON_GAP_DAYS: Final = 75
_BLOCK_DAYS: Final = 64  # one ephemeris serves nights that lie together


@dataclass(frozen=True)
class Pick:
    """Which part of the log is looked at; empty is all of it."""

    object_name: str = ""
    station: str = ""
    rig: str = ""
    season: str = ""


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


@dataclass(frozen=True)
class LogView:
    """All that the log shows for one pick. Hours are kept ones; ``seasons`` maps a label to first
    and last night.
    """

    rows: tuple[NightRow, ...] = ()
    channels: tuple[str, ...] = ()
    hours: Mapping[str, float] = field(default_factory=dict)
    subs_kept: Mapping[str, int] = field(default_factory=dict)
    subs_rejected: Mapping[str, int] = field(default_factory=dict)
    stations: tuple[str, ...] = ()
    rigs: tuple[str, ...] = ()
    objects: tuple[str, ...] = ()
    seasons: Mapping[str, tuple[dt.date, dt.date]] = field(default_factory=dict)
    unknown: Mapping[str, int] = field(default_factory=dict)

    @property
    def nights(self) -> int:
        """Nights with something kept."""
        return len({r.night for r in self.rows if any(run.kept for run in r.runs)})

    def by_station(self) -> dict[str, dict[str, float]]:
        """Hours kept by station and channel, the one with most first."""
        out: dict[str, dict[str, float]] = defaultdict(lambda: defaultdict(float))
        for row in self.rows:
            for run in row.runs:
                out[row.contributor][run.channel] += run.seconds_kept / 3600
        return {n: dict(h) for n, h in sorted(out.items(), key=lambda i: -sum(i[1].values()))}


def rig_of(telescope: str, camera: str) -> str:
    """A rig's name from what headers say."""
    return ", ".join(p for p in (telescope, camera) if p) or "not named"


def cause_of(reason: str) -> str:
    """The word before the colon of a reason, as in ``cloud: ...``."""
    head, mark, _ = reason.partition(":")
    return (
        head.strip() if mark and len(head) <= 16 else ("by hand" if reason or not mark else reason)
    )


def make_view(
    subs: Sequence[Sub],
    widths: Mapping[str, float],
    typed: Sequence[Row],
    notes: Mapping[str, Row],
    plan: PlanState,
    pick: Pick = Pick(),
) -> LogView:
    """The view of all subs. ``widths`` holds star sizes in pixels by identity, ``notes`` rows by a
    run's key.
    """
    known = [s for s in subs if s.channel]
    names = {
        a.casefold(): t.name for t in plan.targets for a in (t.name, *t.aliases)
    }  # an alias is the target
    wanted = names.get(pick.object_name.casefold(), pick.object_name).casefold()
    about = [
        s
        for s in known
        if not wanted or names.get(s.object_name.casefold(), s.object_name).casefold() == wanted
    ]
    seasons = seasons_of({s.night for s in about})
    first, last = seasons.get(pick.season, (dt.date.min, dt.date.max))
    shown = [
        s
        for s in about
        if (not pick.station or s.contributor == pick.station)
        and (not pick.rig or rig_of(s.telescope, s.camera) == pick.rig)
        and first <= s.night <= last
    ]
    rows = _rows(_runs(shown, widths, {r["id"]: r for r in typed}, notes))
    rows = _with_sky(rows, plan)
    hours: dict[str, float] = defaultdict(float)
    kept: Counter[str] = Counter()
    rejected: Counter[str] = Counter()
    for row in rows:
        for run in row.runs:
            hours[run.channel] += run.seconds_kept / 3600
            kept[run.channel] += run.kept
            rejected[run.channel] += run.rejected
    return LogView(
        tuple(rows),
        tuple(sorted(hours, key=channel_order)),
        dict(hours),
        dict(kept),
        dict(rejected),
        tuple(sorted({s.contributor for s in about})),
        tuple(sorted({rig_of(s.telescope, s.camera) for s in about})),
        tuple(sorted({names.get(n.casefold(), n) for n in {s.object_name for s in known} if n})),
        seasons,
        dict(Counter(s.filter for s in subs if not s.channel)),
    )


def seasons_of(nights: set[dt.date]) -> dict[str, tuple[dt.date, dt.date]]:
    """Nights that lie together, named by their months; a long gap begins a new season."""
    groups: list[list[dt.date]] = []
    for night in sorted(nights):
        if groups and (night - groups[-1][-1]).days <= SEASON_GAP_DAYS:
            groups[-1].append(night)
        else:
            groups.append([night])
    return {_months(g[0], g[-1]): (g[0], g[-1]) for g in groups}


def _months(first: dt.date, last: dt.date) -> str:
    if (first.year, first.month) == (last.year, last.month):
        return f"{first:%b %Y}"
    return f"{first:%b}–{last:%b %Y}" if first.year == last.year else f"{first:%b %Y}–{last:%b %Y}"


def _runs(
    subs: Sequence[Sub],
    widths: Mapping[str, float],
    typed: Mapping[str, Row],
    notes: Mapping[str, Row],
) -> list[Run]:
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
    wide = (
        widths[p.identity] * p.scale_arcsec
        for p in kept or part
        if p.scale_arcsec and p.identity in widths
    )
    figures = {
        **base.figures,
        STAR_SIZE: _middle(wide),
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


def _rows(runs: Sequence[Run]) -> list[NightRow]:
    groups: dict[tuple[dt.date, str], list[Run]] = defaultdict(list)
    for run in runs:
        groups[run.night, run.contributor].append(run)
    return [
        NightRow(
            night, who, tuple(sorted(part, key=lambda r: (channel_order(r.channel), r.seconds)))
        )
        for (night, who), part in sorted(groups.items(), key=lambda i: i[0])
    ]


def _with_sky(rows: list[NightRow], plan: PlanState) -> list[NightRow]:
    """Moon and sky of each row, from its site and the times of its subs."""
    if not plan.sites or not plan.targets:
        return rows
    aim = plan.target_named()
    target = Target(aim.ra, aim.dec)
    groups: dict[tuple[str, int], list[int]] = defaultdict(list)
    moments: list[np.ndarray] = []
    for number, row in enumerate(rows):
        site = _site(plan, row.contributor)
        times = _times(row, site.lon)
        moments.append(times)
        groups[site.name, int(times[0]) // _BLOCK_DAYS].append(number)
    out = list(rows)
    for (name, _), numbers in groups.items():
        site = plan.site_named(name)
        utc = np.concatenate([moments[n] for n in numbers])
        sky = conditions(Place(site.lat, site.lon, site.elevation_m), target, utc, site.sky_mag)
        place = 0
        for n in numbers:
            part = slice(place, place + len(moments[n]))
            place = part.stop
            out[n] = replace(
                rows[n],
                sky=SkyFigures(
                    *(
                        float(v[part].mean())
                        for v in (sky.lit, sky.moon, sky.distance, sky.target, sky.sky_mag)
                    )
                ),
            )
    return out


def _times(row: NightRow, longitude: float) -> np.ndarray:
    """Five moments from its first sub to its last; the middle of the night where no times are
    known.
    """
    known = [(julian(r.start), julian(r.end)) for r in row.runs if r.start and r.end]
    if known:
        return np.linspace(min(s for s, _ in known), max(e for _, e in known), 5)
    noon = dt.datetime.combine(row.night, dt.time(12), dt.UTC)
    return np.array([julian(noon) - longitude / 360 + 0.5])


def _site(plan: PlanState, contributor: str) -> SiteThing:
    """The site of that name, else the chosen one."""
    for site in plan.sites:
        if site.name.casefold() == contributor.casefold():
            return site
    return plan.site_named()

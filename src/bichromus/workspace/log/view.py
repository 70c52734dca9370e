"""The log as it is looked at: nights as rows, channels as columns, runs within a night."""

from __future__ import annotations

import datetime as dt
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

from ...core.model.channel import channel_order
from ..library.things import PlanState
from ..project.journal import Row
from .night_sky import with_sky
from .runs import NightRow, gather_nights, gather_runs, rig_of
from .sub import Sub

SEASON_GAP_DAYS: Final = 75


@dataclass(frozen=True)
class Pick:
    """Which part of the log is looked at; empty is all of it."""

    object_name: str = ""
    station: str = ""
    rig: str = ""
    season: str = ""


@dataclass(frozen=True)
class LogView:
    """All that the log shows for one pick. Hours are kept ones; ``seasons`` maps a label to first
    and last night, ``filters`` a channel to what its filters are called.
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
    filters: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

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
    rows = gather_nights(gather_runs(shown, widths, {r["id"]: r for r in typed}, notes))
    rows = with_sky(rows, plan)
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
        _filters(shown),
    )


def _filters(subs: Sequence[Sub]) -> dict[str, tuple[str, ...]]:
    """What the filters of each channel's kept subs are called."""
    found: dict[str, set[str]] = defaultdict(set)
    for sub in subs:
        if sub.kept and sub.filter:
            found[sub.channel].add(sub.filter)
    return {n: tuple(sorted(f)) for n, f in found.items()}


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

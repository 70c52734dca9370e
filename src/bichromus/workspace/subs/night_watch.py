"""Beside the person at the telescope: subs measured as they arrive, what changes noticed, the plan
made anew for what is left of the night.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final, Literal
from zoneinfo import ZoneInfo

import numpy as np
from psygnal import Signal

from ...core.advise.night_watch import (
    SUBS_MISSING,
    FocusRuns,
    Notice,
    WatchedSub,
    focused_at,
    notice_words,
    notices,
)
from ...core.files.calibration_header import air_of
from ...core.measure.grading import grade, sharpness
from ...core.measure.subs import SubMeasure
from ...core.measure.transparency import transparency
from ...core.model.errors import InputError
from ...core.plan.actions import Action, actions_of
from ...core.plan.dates import julian, local_time
from ...core.plan.laying import Block
from ...core.plan.sky import EXTINCTION_V, airmasses
from ..log.controller import LogController
from ..log.sub import Sub
from ..planning.controller import PlanController
from ..planning.rehearsal import EveningController
from ..planning.view import Begun, PlanView
from ..project.context import ProjectContext
from .measures import Measures

_ALIVE: Final = dt.timedelta(hours=12)
"""A night whose last sub is older is over."""
_ARRIVES_S: Final = 4.0
"""Seconds until a file has stopped growing, was found, read and measured."""
_MOST_S: Final = 86400.0
_HARMS: Final = ("focus", "light", "sky", "shape")  # air that has cooled harms once stars widen
State = Literal["good", "poor", "out"]


@dataclass(frozen=True)
class NightSubs:
    """The subs of the night that is watched as they were measured, and how good each is."""

    subs: tuple[WatchedSub, ...] = ()
    graded: tuple[bool, ...] = ()

    def states(self, noticed: Sequence[Notice]) -> list[State]:
        """Good; poor while something is wrong; out where it should not count."""
        out: list[State] = []
        for sub, kept in zip(self.subs, self.graded, strict=True):
            wrong = any(
                n.kind in _HARMS and n.since <= sub.start and (n.over is None or sub.start < n.over)
                for n in noticed
            )
            out.append("out" if not kept else "poor" if wrong else "good")
        return out


@dataclass(frozen=True)
class WatchView:
    """What the page shows at a moment: local times by ``zone``, what the camera shoots (empty: it
    is silent) and the block that the plan has, what comes next, the subs with their states, and
    what is wrong now, the newest first.
    """

    now: dt.datetime
    zone: ZoneInfo
    target: str
    shot: str
    block: Block | None
    next: tuple[Action, ...]
    subs: tuple[WatchedSub, ...]
    states: tuple[State, ...]
    wrong: tuple[str, ...]
    watched: bool

    def clock(self, moment: dt.datetime) -> str:
        """Local time of day."""
        return local_time(julian(moment), self.zone)


class NightWatch:
    """``changed`` follows a sub that was measured; ``look`` tells the moment."""

    changed = Signal()

    def __init__(
        self,
        context: ProjectContext,
        log: LogController,
        planning: PlanController,
        evening: EveningController,
        measures: Measures,
        replan: Callable[[], None],
    ) -> None:
        self._context, self._log, self._planning = context, log, planning
        self._evening, self._measures, self._replan = evening, measures, replan
        self._lock = threading.Lock()
        self._night = NightSubs()
        self._light: dict[tuple[str, str], float | None] = {}
        self._air: dict[str, float | None] = {}
        self._told: set[tuple[str, dt.datetime]] = set()
        self._followed: tuple[object, ...] | None = None
        log.changed.connect(self.follow)

    def follow(self) -> None:
        """Measure what arrived, on a thread of its own line, where anything has changed."""
        watched, view = self._context.document.state.log.watched, self._planning.snapshot.view
        date = view.night.date if view is not None else None
        followed = (watched, date, self._log.snapshot.subs) if watched else None
        with self._lock:
            if followed == self._followed:
                return
            self._followed = followed
        if watched:
            self._context.previews.request("watch", self._gather)
        else:
            self._over()

    def now(self) -> dt.datetime:
        """The time: of the rehearsed evening, of the demo's own clock, else the real one."""
        moment = self._evening.moment
        if moment is not None:
            return moment
        subs = self._night.subs
        if self._context.document.state.plan.fixed_clock and subs:
            return subs[-1].end
        return self._context.now()

    def _late(self) -> dt.timedelta:
        """What a sub takes until it is measured, in the time of the evening."""
        return dt.timedelta(seconds=min(_ARRIVES_S * self._evening.pace, _MOST_S))

    # --- on the worker ---

    def _gather(self) -> None:
        subs = self._of_tonight()
        self._measures.measure_missing(subs)
        known = self._measures.known(subs).measures
        view = self._planning.snapshot.view
        measured = [s for s in subs if s.identity in known]
        light = self._lights(measured, known)
        watched = tuple(
            _watched(s, known[s.identity], light[s.identity], self._air_of(s), view)
            for s in measured
        )
        with self._lock:
            self._night = NightSubs(watched, _graded(measured, known))
        self._tell()
        self._go_on(watched, view)
        self.changed.emit()

    def _of_tonight(self) -> list[Sub]:
        """The newest night of the watched folder, in the order in which it was shot."""
        folder = Path(self._context.document.state.log.watched)
        here = [
            s
            for s in self._log.snapshot.subs
            if s.start is not None and s.file and Path(s.file).is_relative_to(folder)
        ]
        newest = max((s.night for s in here), default=None)
        mine = [s for s in here if s.night == newest]
        return sorted(mine, key=lambda s: s.start or dt.datetime.min.replace(tzinfo=dt.UTC))

    def _lights(
        self, subs: Sequence[Sub], known: Mapping[str, SubMeasure]
    ) -> dict[str, float | None]:
        """Starlight of each against the sharpest of its filter; found once for a pair."""
        out: dict[str, float | None] = {}
        for s in subs:
            mine = [x for x in subs if x.channel == s.channel]
            reference = max(mine, key=lambda x: sharpness(known[x.identity]))
            pair = reference.identity, s.identity
            if pair not in self._light:
                self._light[pair] = transparency(known[pair[0]], known[pair[1]])
            out[s.identity] = self._light[pair]
        return out

    def _air_of(self, sub: Sub) -> float | None:
        """The air at the telescope, where the header tells it; each file is asked once."""
        if sub.identity not in self._air:
            self._air[sub.identity] = None
            with contextlib.suppress(InputError, OSError):
                self._air[sub.identity] = air_of(Path(sub.file))
        return self._air[sub.identity]

    def _noticed(self, subs: Sequence[WatchedSub], now: dt.datetime) -> list[Notice]:
        view = self._planning.snapshot.view
        focus = _focus_of(view) if view is not None else None
        return notices(subs, now, self._late(), focus)

    def _tell(self) -> None:
        """What is new, once, in passing."""
        for n in self._noticed(self._night.subs, self.now()):
            if n.over is None and (n.kind, n.since) not in self._told:
                self._told.add((n.kind, n.since))
                self._context.message(self._words(n))

    def _go_on(self, subs: Sequence[WatchedSub], view: PlanView | None) -> None:
        """Plan what is left of the night."""
        if not subs or view is None:
            return
        end = subs[-1].end
        here = view.night.start <= julian(end) < view.night.end
        if here and self.now() - end < _ALIVE:
            self._planning.shoot(Begun(end, subs[-1].filter))
            self._replan()

    def _over(self) -> None:
        with self._lock:
            self._night = NightSubs()
        self._planning.shoot(None)
        self._replan()

    # --- at any moment ---

    def look(self) -> WatchView | None:
        """What is to be shown now; None without a plan."""
        view = self._planning.snapshot.view
        if view is None:
            return None
        with self._lock:
            night = self._night
        now = self.now()
        jd = julian(now)
        lane = view.lanes[0]
        runs = focused_at(night.subs, _focus_of(view))
        focused = julian(runs[-1]) if runs else None
        found = self._noticed(night.subs, now)
        block = next((b for b in lane.blocks if b.start - 1e-9 <= jd < b.end), None)
        return WatchView(
            now,
            view.zone,
            block.target if block is not None else view.target.name,
            _shot(night.subs, now - self._late()),
            block,
            tuple(a for a in actions_of(lane, focused) if a.moment > jd),
            night.subs,
            tuple(night.states(found)),
            tuple(self._words(n) for n in reversed(found) if n.over is None),
            bool(self._context.document.state.log.watched),
        )

    def _words(self, n: Notice) -> str:
        view = self._planning.snapshot.view
        zone = view.zone if view is not None else ZoneInfo("UTC")
        cause = _cause(n, view) if view is not None else ""
        return notice_words(n, lambda t: local_time(julian(t), zone), cause)


def _shot(subs: Sequence[WatchedSub], now: dt.datetime) -> str:
    """What the camera shoots, as the last sub tells."""
    if not subs or (now - subs[-1].end).total_seconds() > SUBS_MISSING * subs[-1].seconds:
        return ""
    return subs[-1].filter


def _cause(n: Notice, view: PlanView) -> str:
    """What the almanac knows to brighten the sky since the sub that it is compared with."""
    track = view.night.track
    then, now = julian(n.against), julian(n.since)
    moon = [float(np.interp(t, track.utc, track.moon)) for t in (then, now)]
    sun = float(np.interp(now, track.utc, track.sun))
    if moon[1] > 0 and moon[1] > moon[0]:
        return "the Moon is coming up"
    if sun > -18:
        return "the Sun is coming"
    return ""


def _focus_of(view: PlanView) -> FocusRuns:
    """How the plan's rig is focused."""
    rig = view.rig
    return FocusRuns(
        rig.focus_run_min, rig.focus_after_c if rig.focus_by == "temperature" else None
    )


def _watched(
    s: Sub, m: SubMeasure, light: float | None, air_c: float | None, view: PlanView | None
) -> WatchedSub:
    assert s.start is not None
    x = _airmass(s.start + dt.timedelta(seconds=s.seconds / 2), view)
    dimmed = 10 ** (0.4 * EXTINCTION_V * (x - 1))
    return WatchedSub(
        s.start,
        s.seconds,
        s.channel or s.filter,
        m.fwhm_px,
        None if light is None else light * dimmed,
        m.noise,
        m.ellipticity,
        s.figures.get("temperature_c"),
        x,
        air_c,
    )


def _airmass(moment: dt.datetime, view: PlanView | None) -> float:
    """Of the plan's target; 1 where it is not known."""
    track = view.night.track if view is not None else None
    jd = julian(moment)
    if track is None or track.target is None or not track.utc[0] <= jd <= track.utc[-1]:
        return 1.0
    altitude = max(float(np.interp(jd, track.utc, track.target)), 5.0)
    return float(airmasses(np.array([altitude]))[0])


def _graded(subs: Sequence[Sub], known: Mapping[str, SubMeasure]) -> tuple[bool, ...]:
    """Whether each counts, against those of its channel, and as the person has said."""
    kept: dict[str, bool] = {}
    for channel in {s.channel for s in subs}:
        mine = [s for s in subs if s.channel == channel]
        grades = grade([known[s.identity] for s in mine])
        kept |= {s.identity: g.keep for s, g in zip(mine, grades, strict=True)}
    return tuple(s.mark == "keep" or (s.kept and kept[s.identity]) for s in subs)

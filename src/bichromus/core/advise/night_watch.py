"""What a person at the telescope wants to be told: stars that widen, air that has changed since
the last focus, light that goes, a sky that brightens, a sensor that warms, stars that draw out, a
camera that has stopped.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Final, Literal

import numpy as np

Kind = Literal["focus", "air", "light", "sky", "warm", "shape", "stopped"]
IN_A_ROW: Final = 2
"""Subs that must show it: one alone may be a gust or a plane."""
WIDER: Final = 1.15
"""Star width over the night's own from which the focus is worth a look: a sixth more width is a
quarter of a star's peak gone.
"""
DIMMER: Final = 0.75
"""Share of the night's starlight below which cloud or dew is there."""
BRIGHTER: Final = 1.5
"""Sky over the night's own, as its noise tells it."""
WARMER_C: Final = 1.5
"""Degrees over the night's own: a dark of the night's temperature fits no more."""
LONGER: Final = 0.15
"""Ellipticity over the night's own."""
SUBS_MISSING: Final = 3.0
"""Lengths of a sub without one from which the camera has stopped."""
_LEAST: Final = 3  # subs that make the night's own
_SEEING: Final = 0.6  # power of the airmass by which stars widen (Fried 1966)
_A_RUN: Final = 0.7
"""Of what a focus run takes, from which a gap between two subs may have been one."""
_SHORTEST_RUN_MIN: Final = 1.0
_BACK: Final = 0.5  # of the way back to the threshold at which it is over
_RECENT: Final = 12  # subs that the night's own is taken from: the sky changes over hours


@dataclass(frozen=True)
class WatchedSub:
    """A sub as it arrived: UTC, filter, star width in pixels, starlight against one sub of the
    night with the air's extinction taken out, background noise, ellipticity, sensor in degrees
    Celsius; None where not known; airmass; the air at the telescope in degrees Celsius.
    """

    start: dt.datetime
    seconds: float
    filter: str
    fwhm_px: float | None = None
    light: float | None = None
    noise: float | None = None
    ellipticity: float | None = None
    temperature_c: float | None = None
    airmass: float = 1.0
    air_c: float | None = None

    @property
    def end(self) -> dt.datetime:
        """When its shutter closed."""
        return self.start + dt.timedelta(seconds=self.seconds)


@dataclass(frozen=True)
class Notice:
    """What was noticed: its kind, since when, its figure against what was usual, the moment that it
    is compared with, and the sub from which it was over (None: it is there).
    """

    kind: Kind
    since: dt.datetime
    figure: float
    against: dt.datetime
    over: dt.datetime | None = None


@dataclass(frozen=True)
class FocusRuns:
    """How a telescope is focused: the minutes of a run, and after what change of the air (degrees
    Celsius; None: not by that).
    """

    minutes: float
    after_c: float | None = None


Figure = Callable[[WatchedSub], float | None]
Beyond = Callable[[float, float], bool]


@dataclass(frozen=True)
class _Rule:
    """How one kind is told: the figure of a sub, whether two figures are compared by their ratio or
    their difference, the bound, and whether subs of different filters compare.
    """

    kind: Kind
    figure: Figure
    ratio: bool
    bound: float
    any_filter: bool = False

    def change(self, value: float, usual: float) -> float:
        """Of a figure against the usual one."""
        if self.ratio:
            return value / usual if usual > 0 else 1.0
        return value - usual

    def beyond(self, change: float, share: float = 1.0) -> bool:
        """Whether a change is past the bound, or past a share of the way to it."""
        start = 1.0 if self.ratio else 0.0
        edge = start + (self.bound - start) * share
        return change < edge if self.bound < start else change > edge


def _width(s: WatchedSub) -> float | None:
    return None if s.fwhm_px is None else s.fwhm_px / s.airmass**_SEEING


_RULES: Final = (
    _Rule("focus", _width, True, WIDER),
    _Rule("light", lambda s: s.light, True, DIMMER),
    _Rule("sky", lambda s: None if s.noise is None else s.noise**2, True, BRIGHTER),
    _Rule("warm", lambda s: s.temperature_c, False, WARMER_C, any_filter=True),
    _Rule("shape", lambda s: s.ellipticity, False, LONGER, any_filter=True),
)


def notices(
    subs: Sequence[WatchedSub],
    now: dt.datetime,
    late: dt.timedelta = dt.timedelta(0),
    focus: FocusRuns | None = None,
) -> list[Notice]:
    """All that was noticed in a night's subs of one rig, in the order in which it was; each once
    until it is over. ``late``: what a sub takes from its end until it is here.
    """
    out = [n for rule in _RULES for n in _of_rule(rule, subs)]
    if focus is not None and focus.after_c is not None:
        out += _of_air(subs, focus)
    if subs:
        last = subs[-1]
        if (now - late - last.end).total_seconds() > SUBS_MISSING * last.seconds:
            silent = (now - last.end).total_seconds() / 60
            out.append(Notice("stopped", last.end, silent, last.start))
    return sorted(out, key=lambda n: n.since)


def focused_at(subs: Sequence[WatchedSub], focus: FocusRuns) -> list[dt.datetime]:
    """When a rig was focused, as far as its subs show: as it began, and in every gap that is long
    enough for a run.
    """
    out = [s.start for s in subs[:1]]
    least = dt.timedelta(minutes=max(_A_RUN * focus.minutes, _SHORTEST_RUN_MIN))
    return out + [b.start for a, b in pairwise(subs) if b.start - a.end >= least]


def _of_air(subs: Sequence[WatchedSub], focus: FocusRuns) -> list[Notice]:
    """Air that has changed by more than the focus stands since it was set, in subs in a row; over
    once it is set anew.
    """
    assert focus.after_c is not None
    fresh, out = set(focused_at(subs, focus)), list[Notice]()
    first: WatchedSub | None = None
    row: list[WatchedSub] = []
    for s in subs:
        if s.start in fresh:
            if out and out[-1].over is None:
                out[-1] = replace(out[-1], over=s.start)
            first, row = None, []
        if s.air_c is None:
            continue
        first = first or s
        change = s.air_c - (first.air_c or 0.0)
        row = [*row, s] if abs(change) >= focus.after_c else []
        if out and out[-1].over is None:
            out[-1] = replace(out[-1], figure=change)
        elif len(row) >= IN_A_ROW:
            out.append(Notice("air", row[0].start, change, first.start))
    return out


def _of_rule(rule: _Rule, subs: Sequence[WatchedSub]) -> list[Notice]:
    """One kind: subs in a row beyond the bound, against the good ones of the same filter before."""
    out: list[Notice] = []
    usual: dict[str, list[tuple[float, dt.datetime]]] = {}
    row: list[tuple[WatchedSub, float, dt.datetime]] = []
    for s in subs:
        value = rule.figure(s)
        if value is None:
            continue
        known = usual.setdefault("" if rule.any_filter else s.filter, [])
        if len(known) < _LEAST:
            known.append((value, s.start))
            continue
        middle, moment = _own(rule, known)
        change = rule.change(value, middle)
        there = out[-1] if out and out[-1].over is None else None
        if there is not None and not rule.beyond(change, _BACK):
            out[-1] = replace(there, over=s.start)
            there = None
        if rule.beyond(change):
            row.append((s, change, moment))
            if there is not None:
                out[-1] = replace(there, figure=change)
            elif len(row) >= IN_A_ROW:
                out.append(Notice(rule.kind, row[0][0].start, change, moment))
        else:
            row = []
            if there is None:
                known.append((value, s.start))
                del known[:-_RECENT]
    return out


def _own(rule: _Rule, known: Sequence[tuple[float, dt.datetime]]) -> tuple[float, dt.datetime]:
    """What is usual in the night: of the better subs, with the moment of the one nearest to it."""
    values = np.array([v for v, _ in known])
    share = 0.65 if rule.bound < (1.0 if rule.ratio else 0.0) else 0.35
    middle = float(np.quantile(values, share))
    nearest = int(np.argmin(np.abs(values - middle)))
    return middle, known[nearest][1]


def notice_words(n: Notice, clock: Callable[[dt.datetime], str], cause: str = "") -> str:
    """A notice in a sentence, with its figure and what to do. ``cause`` is what brightens the
    sky, where it is known.
    """
    then = clock(n.against)
    if n.kind == "focus":
        return f"Stars {100 * (n.figure - 1):.0f} % wider than at {then}: refocus."
    if n.kind == "air":
        way = "colder" if n.figure < 0 else "warmer"
        return f"Air {abs(n.figure):.1f} °C {way} than at the last focus, {then}: refocus."
    if n.kind == "light":
        return f"Starlight at {100 * n.figure:.0f} % of that at {then}: cloud, or dew on the glass."
    if n.kind == "sky":
        return f"Sky {n.figure:.1f} times as bright as at {then}: {cause or 'Moon, dawn or lamps'}."
    if n.kind == "warm":
        return f"Sensor {n.figure:.1f} °C warmer than at {then}: check the cooling."
    if n.kind == "shape":
        return f"Stars longer than at {then}: check guiding and wind."
    return f"No sub since {clock(n.since)}, {n.figure:.0f} min: the camera has stopped."

"""Hours of the coming nights shared out among targets and filters: several rigs, filters that pass
several bands at once, windows that may be clouded. Squares of SNR add up, so one linear program
holds all of it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np
import scipy

from .exposure import snr_rate

_LATER: Final = 0.1  # what an hour costs more with each later window
_SLACK: Final = 1e-9  # of an aim that the next one must not touch
_NO_HOUR: Final = 1e-7


@dataclass(frozen=True)
class OpenWindow:
    """Hours of one rig, the share of them in which its shutter is open, and the probability that
    the sky is clear.
    """

    name: str
    rig: str
    hours: float
    efficiency: float = 1.0
    clear: float = 1.0

    @property
    def open_hours(self) -> float:
        """Expected hours of open shutter."""
        return self.hours * self.efficiency * self.clear


@dataclass(frozen=True)
class Band:
    """What a pixel gathers through one band (e-/s), its read noise (e-), and how many pixels count
    together.
    """

    target_e_s: float
    sky_e_s: float
    read_noise_e: float
    dark_e_s: float = 0.0
    pixels: float = 1.0

    def per_hour(self, sub_s: float) -> float:
        """SNR squared that an hour of open shutter adds."""
        light = self.sky_e_s + self.dark_e_s
        return snr_rate(self.target_e_s, light, self.read_noise_e, sub_s, self.pixels)


@dataclass(frozen=True)
class Rate:
    """A target through a filter in a window: the SNR squared that an hour of open shutter adds to
    each channel, all in the same hour.
    """

    window: str
    target: str
    filter: str
    gains: Mapping[str, float]


def rate_of(
    window: str, target: str, filter_: str, sub_s: float, bands: Mapping[str, Band]
) -> Rate:
    """The rate of bands in subs so long."""
    gains = {channel: band.per_hour(sub_s) for channel, band in bands.items()}
    return Rate(window, target, filter_, gains)


@dataclass(frozen=True)
class Goal:
    """The SNR that a channel is to have, and has."""

    goal_snr: float
    had_snr: float = 0.0

    @property
    def had_share(self) -> float:
        """Share of the goal that is held, in squares; at most 1."""
        return min((self.had_snr / self.goal_snr) ** 2, 1.0)


@dataclass(frozen=True)
class Wanted:
    """A target with its goals by channel; of two targets the one of twice the ``priority`` counts
    twice.
    """

    name: str
    channels: Mapping[str, Goal]
    priority: float = 1.0


@dataclass(frozen=True)
class Use:
    """Expected hours of open shutter on a target through a filter."""

    target: str
    filter: str
    hours: float


@dataclass(frozen=True)
class Shared:
    """What is shot in each window, and what every channel of every target reaches of its goal."""

    uses: dict[str, tuple[Use, ...]]
    snr: dict[str, dict[str, float]]
    shares: dict[str, dict[str, float]]
    warnings: tuple[str, ...] = field(default=())

    def share(self, target: str) -> float:
        """Share of a target's goal: the smallest of its channels'."""
        return min(self.shares[target].values())


def share_out(
    windows: Sequence[OpenWindow],
    wanted: Sequence[Wanted],
    rates: Sequence[Rate],
    early: bool = True,
) -> Shared:
    """Make the sum over targets of priority times their smallest share as large as can be, then
    the sum of all shares, then finish early with the fewest hours (not where only the shares are
    asked for).

    A channel that no rate serves holds its target back from nothing else.
    """
    places = {w.name: n for n, w in enumerate(windows)}
    program = _Program(wanted, rates)
    program.bound([w.open_hours for w in windows], [places[r.window] for r in rates])
    cost = np.array([1 + _LATER * places[r.window] for r in rates]) if early else None
    hours = program.solve(cost)
    return _told(windows, wanted, rates, hours)


class _Program:
    """Variables: hours of each rate, then the share of each channel, then that of each target."""

    def __init__(self, wanted: Sequence[Wanted], rates: Sequence[Rate]) -> None:
        self._wanted = wanted
        self._cells = [(t.name, c) for t in wanted for c in t.channels]
        numbers = {cell: n for n, cell in enumerate(self._cells)}
        goals = {(t.name, c): g for t in wanted for c, g in t.channels.items()}
        self._hours, self._shares = len(rates), len(self._cells)
        self._size = self._hours + self._shares + len(wanted)
        self._rows: list[tuple[list[int], list[float], float]] = []
        gains: list[tuple[list[int], list[float]]] = [([], []) for _ in self._cells]
        for k, rate in enumerate(rates):
            for channel, gain in rate.gains.items():
                cell = numbers.get((rate.target, channel))
                if cell is not None and gain > 0:
                    gains[cell][0].append(k)
                    gains[cell][1].append(-gain / goals[self._cells[cell]].goal_snr ** 2)
        served = set()
        for n, (which, values) in enumerate(gains):
            if which:
                served.add(n)
            self._row([*which, self._hours + n], [*values, 1.0], goals[self._cells[n]].had_share)
        first = self._hours + self._shares
        for t, one in enumerate(wanted):
            for channel in one.channels:
                n = numbers[one.name, channel]
                if n in served:
                    self._row([first + t, self._hours + n], [1.0, -1.0], 0.0)

    def bound(self, room: Sequence[float], place: Sequence[int]) -> None:
        """No window holds more than its hours."""
        inside: list[list[int]] = [[] for _ in room]
        for k, p in enumerate(place):
            inside[p].append(k)
        for which, hours in zip(inside, room, strict=True):
            if which:
                self._row(which, [1.0] * len(which), hours)

    def solve(self, cost: np.ndarray | None) -> np.ndarray:
        """Hours of each rate: one aim after the other, each as well as those before allow."""
        targets, shares, early = (np.zeros(self._size) for _ in range(3))
        targets[self._hours + self._shares :] = [-t.priority for t in self._wanted]
        shares[self._hours : self._hours + self._shares] = -1.0
        aims = [targets, shares]
        if cost is not None:
            early[: self._hours] = cost
            aims.append(early)
        found = np.zeros(self._size)
        for aim in aims:
            solved = self._solved(aim)
            if solved is None:
                break  # the aim before is reached within the solver's tolerance only
            found = solved
            reached = float(aim @ found)
            where = np.flatnonzero(aim)
            self._row(list(where), list(aim[where]), reached + _SLACK * max(1.0, abs(reached)))
        return found[: self._hours]

    def _solved(self, aim: np.ndarray) -> np.ndarray | None:
        rows = np.repeat(np.arange(len(self._rows)), [len(r[0]) for r in self._rows])
        columns = np.concatenate([r[0] for r in self._rows]) if self._rows else np.zeros(0)
        values = np.concatenate([r[1] for r in self._rows]) if self._rows else np.zeros(0)
        shape = len(self._rows), self._size
        matrix: Any = scipy.sparse.csr_matrix((values, (rows, columns.astype(int))), shape=shape)
        free = self._size - self._hours
        bounds: Any = [(0.0, None)] * self._hours + [(0.0, 1.0)] * free
        limits = np.array([r[2] for r in self._rows])
        done: Any = scipy.optimize.linprog(aim, matrix, limits, bounds=bounds, method="highs")
        return None if done.x is None else np.asarray(done.x)

    def _row(self, which: Sequence[int], values: Sequence[float], limit: float) -> None:
        self._rows.append((list(which), list(values), limit))


def _told(
    windows: Sequence[OpenWindow],
    wanted: Sequence[Wanted],
    rates: Sequence[Rate],
    hours: np.ndarray,
) -> Shared:
    used = {w.name: 0.0 for w in windows}
    for rate, h in zip(rates, hours, strict=True):
        used[rate.window] += max(float(h), 0.0)
    fits = {w.name: min(1.0, w.open_hours / max(used[w.name], 1e-12)) for w in windows}
    squares = {t.name: {c: g.had_snr**2 for c, g in t.channels.items()} for t in wanted}
    uses: dict[str, list[Use]] = {w.name: [] for w in windows}
    for rate, h in zip(rates, hours, strict=True):
        shot = max(float(h), 0.0) * fits[rate.window]  # never more than there is, by no rounding
        if shot < _NO_HOUR:
            continue
        uses[rate.window].append(Use(rate.target, rate.filter, shot))
        for channel, gain in rate.gains.items():
            if channel in squares[rate.target]:
                squares[rate.target][channel] += shot * gain
    return Shared(
        {name: tuple(u) for name, u in uses.items()},
        {t: {c: math.sqrt(v) for c, v in found.items()} for t, found in squares.items()},
        {
            t.name: {
                c: min(float(squares[t.name][c]) / g.goal_snr**2, 1.0)
                for c, g in t.channels.items()
            }
            for t in wanted
        },
        _warnings(windows, wanted, rates),
    )


def _warnings(
    windows: Sequence[OpenWindow], wanted: Sequence[Wanted], rates: Sequence[Rate]
) -> tuple[str, ...]:
    served = {(r.target, c) for r in rates for c, gain in r.gains.items() if gain > 0}
    out = [
        f"No filter serves {channel} of {t.name}: it keeps what it has."
        for t in wanted
        for channel, goal in t.channels.items()
        if (t.name, channel) not in served and goal.had_share < 1
    ]
    if not any(w.open_hours > 0 for w in windows):
        out.append("There is no hour to be used in these windows.")
    return tuple(out)

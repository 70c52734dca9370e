"""Hours over windows and channels: the channel furthest behind first, then all of them. Squares of
SNR add up.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from ..model.errors import InputError
from .exposure import snr_rate


@dataclass(frozen=True)
class Window:
    """Hours that can be used, and the share of them in which the shutter is open."""

    name: str
    hours: float
    efficiency: float = 1.0

    @property
    def open_hours(self) -> float:
        """Hours of open shutter."""
        return self.hours * self.efficiency


@dataclass(frozen=True)
class Want:
    """A channel's goal and what it holds; ``sky_e_s`` by window, missing where it is not to be
    shot.
    """

    name: str
    goal_snr: float
    target_e_s: float
    read_noise_e: float
    sub_s: float
    sky_e_s: Mapping[str, float]
    had_snr: float = 0.0
    dark_e_s: float = 0.0
    pixels: float = 1.0

    def rate(self, window: str) -> float:
        """SNR squared that an hour in this window adds; 0 where it is not to be shot."""
        if window not in self.sky_e_s:
            return 0.0
        light = self.sky_e_s[window] + self.dark_e_s
        return snr_rate(self.target_e_s, light, self.read_noise_e, self.sub_s, self.pixels)


@dataclass(frozen=True)
class Allocation:
    """Hours of open shutter by window and channel; SNR and share of goal reached by each
    channel.
    """

    share: float
    hours: dict[str, dict[str, float]]
    snr: dict[str, float]
    shares: dict[str, float]
    warnings: tuple[str, ...] = field(default=())


def allocate(windows: Sequence[Window], wants: Sequence[Want]) -> Allocation:
    """Make the smallest share of a goal as large as can be, then the sum of shares, then use no
    hour in vain.
    """
    _check(windows, wants)
    pairs = [(w, c) for w in windows for c in wants if c.rate(w.name) > 0]
    n, m = len(pairs), len(wants)
    gain = np.zeros((m, n))
    use = np.zeros((len(windows), n))
    for k, (w, c) in enumerate(pairs):
        gain[wants.index(c), k] = c.rate(w.name) / c.goal_snr**2
        use[windows.index(w), k] = 1
    have = np.array([min(c.had_snr**2 / c.goal_snr**2, 1.0) for c in wants])
    room = np.array([w.open_hours for w in windows])
    # variables: hours of each pair, share of each channel, the smallest share
    over = np.hstack([use, np.zeros((len(windows), m + 1))])
    reached = np.hstack([-gain, np.eye(m), np.zeros((m, 1))])
    least = np.hstack([np.zeros((m, n)), -np.eye(m), np.ones((m, 1))])
    rows, limits = np.vstack([over, reached, least]), np.concatenate([room, have, np.zeros(m)])
    bounds: list[tuple[float, float | None]] = [*[(0.0, None)] * n, *[(0.0, 1.0)] * (m + 1)]
    first = scipy.optimize.linprog(
        np.concatenate([np.zeros(n + m), [-1.0]]), rows, limits, bounds=bounds, method="highs"
    )
    assert first.x is not None  # nothing at all is always allowed
    smallest = float(first.x[-1])
    bounds[-1] = (max(smallest - 1e-9, 0), 1)
    # of equal ways the one that wastes no hour and begins early
    early = np.array([1 + 0.1 * windows.index(w) for w, _ in pairs]) if pairs else np.zeros(0)
    idle = (
        1e-3 * early / max(float(room.sum()), 1.0)
    )  # well above the solver's tolerance, far below any share
    second = scipy.optimize.linprog(
        np.concatenate([idle, np.full(m, -1.0), [0.0]]), rows, limits, bounds=bounds, method="highs"
    )
    best = second.x if second.x is not None else first.x
    hours: dict[str, dict[str, float]] = {w.name: {} for w in windows}
    for (w, c), h in zip(pairs, best[:n], strict=True):
        if h > 1e-9:
            hours[w.name][c.name] = float(h)
    squares = {
        c.name: c.had_snr**2 + sum(hours[w.name].get(c.name, 0) * c.rate(w.name) for w in windows)
        for c in wants
    }
    shares = {c.name: min(squares[c.name] / c.goal_snr**2, 1.0) for c in wants}
    return Allocation(
        min(shares.values()),
        hours,
        {k: float(np.sqrt(v)) for k, v in squares.items()},
        shares,
        _warnings(windows, wants),
    )


def _check(windows: Sequence[Window], wants: Sequence[Want]) -> None:
    if not wants:
        raise InputError("There is no channel to plan for", do="Give at least one channel")
    for items, what in ((windows, "window"), (wants, "channel")):
        names = [i.name for i in items]
        if len(set(names)) != len(names):
            raise InputError(
                f"A {what} is there twice", why=", ".join(names), do="Give each a name of its own"
            )
    for w in windows:
        if w.hours < 0 or not 0 <= w.efficiency <= 1:
            raise InputError(
                f"The window {w.name} cannot be",
                why=f"{w.hours:g} h, efficiency {w.efficiency:g}",
                do="Give hours of 0 or more and an efficiency from 0 to 1",
            )
    known = {w.name for w in windows}
    for c in wants:
        if (
            c.goal_snr <= 0
            or min(c.target_e_s, c.read_noise_e, c.had_snr, c.dark_e_s, *c.sky_e_s.values(), 0) < 0
            or (c.sub_s <= 0 or c.pixels <= 0)
        ):
            raise InputError(
                f"The channel {c.name} cannot be planned",
                why="a figure is negative, or its goal, sub length or pixels are not above zero",
                do="Check its figures",
            )
        unknown = set(c.sky_e_s) - known
        if unknown:
            raise InputError(
                f"The channel {c.name} names a window that is not there",
                why=", ".join(sorted(unknown)),
                do=f"Use {', '.join(known) or 'a window of the file'}",
            )


def _warnings(windows: Sequence[Window], wants: Sequence[Want]) -> tuple[str, ...]:
    out = [
        f"{c.name} cannot be shot in any window."
        for c in wants
        if not any(c.rate(w.name) > 0 and w.open_hours > 0 for w in windows)
        and c.had_snr < c.goal_snr
    ]
    if not any(w.open_hours > 0 for w in windows):
        out.append("There is no hour to be used in these windows.")
    return tuple(out)

"""Is it enough? What a channel's SNR becomes with more hours, and where another hour is
worth most.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ..model.words import listed, short
from ..plan.tonight import MISSING_H
from .base import Advice, hours_text


@dataclass(frozen=True)
class Growth:
    """A channel's SNR as it grows: measured at ``measured_h`` hours, ``hours`` kept now, ``goal_h``
    wanted.

    ``dual_h`` of the hours were shot behind filters of several bands. ``hour_gain`` is what an hour
    under tonight's sky counts in hours under the sky of what is held. Where rigs differ, hours are
    those of one (``hours_of``), ``shot_h`` the clock's.
    """

    channel: str
    hours: float
    goal_h: float | None
    snr: float | None
    measured_h: float | None
    hour_gain: float = 1.0
    dual_h: float = 0.0
    shot_h: float | None = None
    hours_of: str = ""

    def at(self, hours: float) -> float | None:
        """SNR after so many hours; it grows as their square root."""
        if self.snr is None or not self.measured_h:
            return None
        return self.snr * math.sqrt(max(hours, 0.0) / self.measured_h)

    @property
    def now(self) -> float | None:
        """SNR at the hours that are kept; None where nothing was measured."""
        return self.at(self.hours)

    @property
    def goal(self) -> float | None:
        """SNR at the hours that are wanted; None where none are."""
        return self.at(self.goal_h) if self.goal_h else None

    @property
    def next_hour(self) -> float | None:
        """SNR that another hour tonight adds."""
        now, then = self.now, self.at(self.hours + self.hour_gain)
        return then - now if now is not None and then is not None else None

    @property
    def missing_h(self) -> float:
        """Hours between what is kept and what is wanted."""
        return max((self.goal_h or 0.0) - self.hours, 0.0)

    @property
    def share(self) -> float | None:
        """Share of the goal that is held, 0 to 1."""
        return min(self.hours / self.goal_h, 1.0) if self.goal_h else None


def advise_enough(channels: Sequence[Growth]) -> Advice | None:
    """The channel whose next hour closes most of what it lacks; None while no goal is set."""
    wanted = [g for g in channels if g.goal_h]
    if not wanted:
        return None
    rows = tuple(
        (
            f"{g.channel}, kept of wanted",
            f"{_hours(g.hours)} of {_hours(g.goal_h or 0)}"
            + (f", SNR {g.now:.1f}" if g.now is not None else "")
            + (f", next hour {g.next_hour:+.1f}" if g.next_hour is not None else ""),
        )
        for g in wanted
    )
    formula = (
        "SNR grows as the square root of the hours. An hour under tonight's sky counts for "
        "less where the Moon brightens it."
    )
    told = next((g.hours_of for g in wanted if g.hours_of), "")
    if told:
        formula += f" Hours are those of {short(told)}: other rigs' count by what they bring."
    open_ones = [g for g in wanted if g.missing_h > MISSING_H]
    reached = [g.channel for g in wanted if g.missing_h <= MISSING_H]
    if not open_ones:
        return Advice("good", f"All goals are reached: {listed(reached)}.", rows, formula)
    measured = [
        g for g in open_ones if g.next_hour is not None and g.goal is not None and g.now is not None
    ]
    if not measured:
        first = max(open_ones, key=lambda g: g.missing_h / (g.goal_h or 1))
        return Advice(
            "act",
            f"{first.channel} lacks most: {hours_text(first.missing_h)} of the "
            f"{_hours(first.goal_h or 0)} wanted.",
            rows,
            formula,
            first.channel,
        )

    def closes(g: Growth) -> float:
        assert g.goal is not None
        assert g.now is not None
        assert g.next_hour is not None
        return min(g.next_hour / max(g.goal - g.now, 1e-9), 1.0) if g.goal > g.now else 0.0

    best = max(measured, key=lambda g: (1 - (g.share or 0)) * g.hour_gain)
    lacks = (best.goal or 0) - (best.now or 0)
    if closes(best) >= 1:
        return Advice(
            "act",
            f"{best.channel} lacks only {hours_text(best.missing_h / best.hour_gain)} "
            "of tonight to reach its goal.",
            rows,
            formula,
            best.channel,
        )
    done = f" {listed(reached)} {'has' if len(reached) == 1 else 'have'} enough." if reached else ""
    return Advice(
        "act",
        f"Another hour on {best.channel} tonight adds {best.next_hour:.1f} to its SNR of "
        f"{best.now:.1f}, {100 * closes(best):.0f} % of the {lacks:.1f} it lacks.{done}",
        rows,
        formula,
        best.channel,
    )


def _hours(hours: float) -> str:
    minutes = round(hours * 60)
    return f"{minutes // 60}h {minutes % 60:02d}m"

"""The log in words: the figures of a night, and the card of a channel."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from ....core.advise.enough import Growth
from ....core.model.words import listed, short
from ....workspace.log.channel_time import ChannelTime
from ....workspace.log.controller import LogSnapshot
from ....workspace.log.runs import NightRow
from ...shell.channel_list import Card
from ...widgets.text import clock_text, snr_text

_REACHED_H: Final = 0.02
"""Hours below which a goal counts as reached: a sub or less."""
_WHOLE_HOURS_FROM: Final = 1.95
_A_MOMENT_H: Final = 0.01


def logged_card(now: LogSnapshot, channel: str, key: str) -> Card:
    """A channel that has no growth of SNR: hours, subs, nights."""
    view, hours = now.view, now.hours.get(channel, 0.0)
    passing = [c for c in view.channels if channel in c.split("+")]
    kept = sum(view.subs_kept.get(c, 0) for c in passing)
    nights = sum(any(r.hours(c) for c in passing) for r in view.rows)
    time = now.times.get(channel, ChannelTime())
    tip = f"{clock_text(hours)} kept in {kept:,} subs.{_dual_text(time.dual / 3600)}"
    return Card(
        channel,
        clock_text(hours),
        f"{kept:,}",
        None,
        "nights",
        f"{nights}",
        key,
        tip,
        first="subs",
    )


def growth_card(growth: Growth, key: str) -> Card:
    """Hours of the goal, SNR now, and what the next hour adds."""
    goal = f" / {_goal_text(growth.goal_h)}" if growth.goal_h else ""
    more = f"{growth.next_hour:+.1f}" if growth.next_hour is not None else "–"
    reached = growth.goal_h is not None and growth.missing_h <= _REACHED_H
    tip = "No goal is set."
    if reached:
        tip = "The goal is reached."
    elif growth.goal_h:
        tip = f"{clock_text(growth.missing_h)} missing."
    tip += _of_rigs(growth) + _dual_text(growth.dual_h)
    return Card(
        growth.channel,
        clock_text(growth.hours) + goal,
        snr_text(growth.now),
        growth.share,
        "goal" if reached else "next hour",
        "reached" if reached else more,
        key,
        tip,
    )


def kept_words(growth: Growth) -> str:
    """Hours kept; where rigs differ those of one beside the clock's."""
    if not growth.hours_of or growth.shot_h is None:
        return f"{clock_text(growth.hours)} kept"
    rig = short(growth.hours_of)
    return f"{clock_text(growth.shot_h)} kept, as much as {clock_text(growth.hours)} of {rig}"


def _of_rigs(growth: Growth) -> str:
    return f" {kept_words(growth)}." if growth.hours_of else ""


def growth_legend(growths: Sequence[Growth]) -> str:
    """What the axes of the growth are, and its marks."""
    rigs = list(dict.fromkeys(short(g.hours_of) for g in growths if g.hours_of))
    of_rigs = f" of {listed(rigs)}" if rigs else ""
    return (
        f"SNR as a share of the goal's, along the root of the hours{of_rigs}.  "
        "Dot: kept, ring: goal, cross: measured"
    )


def _dual_text(hours: float) -> str:
    if hours <= _A_MOMENT_H:
        return ""
    return f" {clock_text(hours)} of it behind filters that pass several lines."


def _goal_text(hours: float) -> str:
    return f"{hours:.0f}h" if hours >= _WHOLE_HOURS_FROM else f"{60 * hours:.0f}m"


def night_rows(row: NightRow) -> list[tuple[str, str, str, str]]:
    """The figures of a night."""
    rows: list[tuple[str, str, str, str]] = []
    if row.sky is not None:
        up = f"{row.sky.moon_altitude:.0f}° high" if row.sky.moon_altitude > 0 else "down"
        rows += [
            (
                "Moon",
                up,
                f"{100 * row.sky.lit:.0f} %",
                f"{row.sky.moon_distance:.0f}° from the target, on average",
            ),
            (
                "sky there",
                "computed",
                f"{row.sky.sky_mag:.1f} mag/″²",
                "From the site's dark sky and the Moon, without twilight",
            ),
            ("target", "mean height", f"{row.sky.altitude:.0f}°", "While subs were shot"),
        ]
    if row.fwhm_arcsec is not None:
        rows.append(
            ("star size", "", f"{row.fwhm_arcsec:.1f}″", "Median of the kept subs that were graded")
        )
    span = row.span_hours
    rows.append(
        (
            "shutter open",
            f"of {clock_text(span)}" if span else "",
            clock_text(row.open_hours),
            "Sum of all subs, between the first and the last of them",
        )
    )
    for cause, hours in sorted(row.lost_to().items(), key=lambda i: -i[1]):
        rows.append(("rejected", cause, clock_text(hours), "Time of subs that were thrown out"))
    if span and span > row.open_hours + _A_MOMENT_H:
        rows.append(
            (
                "between subs",
                "shutter closed",
                clock_text(span - row.open_hours),
                "Focus, flip, dithers, downloads, other targets",
            )
        )
    return rows

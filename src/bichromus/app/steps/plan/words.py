"""The plan in rows of figures."""

from __future__ import annotations

from typing import Final

from ....core.plan.clear_nights import likely_nights
from ....core.plan.program import MISSING_H, ChannelPlan
from ....workspace.planning.season import nights_needed
from ....workspace.planning.view import PlanView
from ...widgets.text import clock_text

Row = tuple[str, str, str, str]
_REASONS: Final = {
    "worth": "by its worth",
    "max_sub": "your cap",
}


def sub_rows(view: PlanView) -> list[Row]:
    """Sub length by channel, with its reason and its price."""
    rows = []
    for c in view.channels:
        penalty = c.sub.read_noise_penalty
        price = f"+{100 * penalty:.0f} % noise" if penalty is not None else ""
        rows.append(
            (
                c.channel,
                f"{_REASONS[c.sub.limited_by]}, {price}",
                f"{c.sub.sub_s:.0f} s",
                f"{_prices(c)}\n"
                f"One sub shows the target at SNR {c.sub_snr:.1f} a pixel: it may look "
                "empty, and is right.",
            )
        )
    return rows


def _prices(c: ChannelPlan) -> str:
    """What shorter and longer subs would cost of the night, and what fills up."""
    here = c.worth.at(c.sub.sub_s)
    half, twice = (100 * (1 - c.worth.at(k * c.sub.sub_s) / here) for k in (0.5, 2.0))
    longer = f"lose {twice:.0f} %" if twice > 0 else f"gain {-twice:.0f} %"
    lines = [
        f"Subs half as long lose {half:.0f} % of what an hour by the clock brings, to read noise "
        f"and overheads; twice as long they {longer}."
    ]
    full = c.sub.saturates_at_s
    if full is not None and full < c.sub.sub_s:
        lines.append(f"The brightest stars are full from {full:.0f} s on.")
    return "\n".join(lines)


def hour_rows(view: PlanView) -> list[Row]:
    """Hours held, wanted and missing by channel."""
    return [
        (
            c.channel,
            f"{clock_text(c.had_h)} of {clock_text(c.wanted_h)}",
            clock_text(c.missing_h) if c.missing_h > MISSING_H else "reached",
            f"{c.channel}: hours of open shutter under a dark sky until all channels "
            "are equally loud.\n"
            f"Moonlight tonight makes its sky {c.moon_factor:.1f} times brighter.",
        )
        for c in view.channels
    ]


def hours_note(view: PlanView, chance: float) -> str:
    """After how many clear nights all goals are reached, and how many nights that likely is."""
    needed = nights_needed(view)
    if needed == 0:
        return "all reached"
    if needed is None:
        return "more than 14 clear nights"
    clear = f"{needed} clear {'night' if needed == 1 else 'nights'}"
    first, last = likely_nights(needed, chance)
    return f"{clear}: likely {first} to {last}" if last > first else clear


def cost_rows(view: PlanView) -> list[Row]:
    """What blocks and cycles cost and risk."""
    tip = (
        "Open: share of the time with the shutter open.\n"
        "Safe: when clouds stop the night at any moment, "
        "the mean share of its subs that the least complete channel has."
    )
    ways = (("blocks", view.tonight.block_cost), ("cycles", view.tonight.cycle_cost))
    return [
        (
            name,
            f"{100 * cost.open_share:.0f} % open",
            f"{100 * cost.completeness:.0f} % safe",
            tip,
        )
        for name, cost in ways
    ]


def optics_rows(view: PlanView) -> list[Row]:
    """What the filters keep in this beam, light in the corners, and the field that rigs share."""
    rows = []
    narrow = [c for c in view.checks if c.kept is not None]
    if narrow:
        worst = min(narrow, key=lambda c: c.kept or 1.0)
        rows.append(
            (
                f"{worst.channel} filter at f/{view.rig.focal / view.rig.aperture_mm:.1f}",
                "",
                f"keeps {100 * (worst.kept or 0):.0f} %",
                "A fast beam shifts a narrow filter to the blue",
            )
        )
    corner = min((c.corner for c in view.checks), default=1.0)
    tip = "A small filter in front of a large sensor shades it"
    rows.append(("corner light", "", f"{100 * corner:.0f} %", tip))
    for name, part in view.shared.items():
        if name != view.rig.name:
            rows.append(
                (
                    f"with {name.partition(',')[0]}",
                    "shared field",
                    f"{100 * part:.0f} %",
                    f"{name} keeps {100 * part:.0f} % of its field where all rigs see the target",
                )
            )
    return rows

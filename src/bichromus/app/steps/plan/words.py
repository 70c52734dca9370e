"""The plan in rows of figures."""

from __future__ import annotations

from ....core.model.channel import LINES
from ....core.model.words import listed, short
from ....core.plan.clear_nights import likely_nights
from ....core.plan.coming import NIGHTS
from ....core.plan.through import Through
from ....core.plan.tonight import MISSING_H
from ....workspace.planning.view import PlanView
from ...widgets.text import clock_text

_WEEK = 7
CORE_SUBS = 20
"""Short subs that show a core without noise to speak of: it is bright."""
Row = tuple[str, str, str, str]


def sub_rows(view: PlanView) -> list[Row]:
    """Sub length by filter of the plan's rig, with what others would cost."""
    rows = []
    mine = view.rig.name, view.target.name
    for t in (t for t in view.coming.throughs if (t.station, t.aim) == mine):
        half, twice = prices(t)
        rows.append(
            (
                t.filter,
                f"{_signed(-half)}, {_signed(-twice)}",
                f"{t.sub.sub_s:.0f} s",
                _price_words(t, half, twice),
            )
        )
        if t.core_s is not None:
            rows.append(
                (
                    f"{t.filter}, core",
                    f"{CORE_SUBS} subs",
                    f"{t.core_s:.0f} s",
                    f"In subs of {t.sub.sub_s:.0f} s the core is full: "
                    "a second, short set keeps it.",
                )
            )
    return rows


def prices(t: Through) -> tuple[float, float]:
    """Percent of what an hour by the clock brings that subs half and twice as long lose."""
    here = t.worth.at(t.sub.sub_s)
    half, twice = (100 * (1 - t.worth.at(k * t.sub.sub_s) / here) for k in (0.5, 2.0))
    return half, twice


def _signed(percent: float) -> str:
    return f"{percent:+.0f} %".replace("-", "−")


def _price_words(t: Through, half: float, twice: float) -> str:
    """What shorter and longer subs would cost of the night, and what fills up."""
    longer = f"lose {twice:.0f} %" if twice > 0 else f"gain {-twice:.0f} %"
    why = "By its worth." if t.sub.limited_by == "worth" else "As long as you allow."
    lines = [
        f"{why} Subs half as long lose {half:.0f} % of what an hour by the clock brings, to read "
        f"noise and overheads; twice as long they {longer}.",
    ]
    if t.sub.read_noise_penalty is not None:
        lines.append(f"Read noise adds {100 * t.sub.read_noise_penalty:.0f} % to the noise.")
    full = t.sub.saturates_at_s
    if full is not None and full < t.sub.sub_s:
        lines.append(f"The brightest stars are full from {full:.0f} s on.")
    if len(t.channels) > 1:
        lines.append(f"{' and '.join(t.channels)} at once: the weaker line sets the length.")
    lines.append("One sub may look empty, and is right.")
    return "\n".join(lines)


def hour_rows(view: PlanView) -> list[Row]:
    """Hours held, wanted and missing by channel."""
    return [
        (
            c.channel,
            f"{clock_text(c.had_h)} of {clock_text(c.wanted_h)}",
            clock_text(c.missing_h) if c.missing_h > MISSING_H else "reached",
            f"{c.channel}: hours of open shutter of {c.station} behind {c.filter}, under a dark "
            "sky with the target at its highest, until all channels are equally loud.\n"
            f"Moonlight tonight makes its sky up to {view.moon_factor[c.channel]:.1f} times "
            f"brighter.{_guessed(view, c.channel)}{_of_rigs(view, c.channel)}",
        )
        for c in view.channels
    ]


def _of_rigs(view: PlanView, channel: str) -> str:
    """Whose hours are held, and what each counts, where rigs differ."""
    counted = view.counted.get(channel)
    if counted is None or not counted.differs:
        return ""
    parts = [
        f"{clock_text(p.hours)} of {short(p.rig)}"
        + (f" count {p.share:.2f} each" if p.known else ", a rig that is not known")
        for p in counted.parts
    ]
    return f"\nHeld: {'; '.join(parts)}."


def counted_words(view: PlanView) -> str:
    """Whose hours are told, and how other rigs' count; empty where all are alike."""
    # by the rig that serves a channel and is told for, the other rig, and what its hour counts
    told: dict[str, dict[str, dict[str, list[str]]]] = {}
    for channel, counted in view.counted.items():
        for part in counted.parts if counted.differs else ():
            if part.rig != counted.rig and part.known:
                of_rig = told.setdefault(counted.rig, {}).setdefault(part.rig, {})
                of_rig.setdefault(f"{part.share:.2f}", []).append(channel)
    sentences = []
    for unit, by_rig in told.items():
        said = [
            f"one of {short(rig)} counts " + listed([f"{s} in {listed(c)}" for s, c in of.items()])
            for rig, of in by_rig.items()
        ]
        sentences.append(f"In hours of {short(unit)}: {'; '.join(said)}.")
    return " ".join([*sentences, "Tonight's are told so, too."]) if sentences else ""


def _guessed(view: PlanView, channel: str) -> str:
    """That its brightness is a guess, where it is."""
    target = view.target
    told = channel in target.rayleigh if channel in LINES else target.surface_mag is not None
    return "" if told else f"\nIts brightness is a guess for the kind of target: {target.kind}."


def hours_note(view: PlanView, chance: float) -> str:
    """After how many clear nights all goals are reached, and how many nights that likely is."""
    needed = view.coming.clear_nights
    if needed == 0:
        return "all reached"
    if needed is None:
        return f"more than {NIGHTS} clear nights"
    clear = f"{needed} clear {'night' if needed == 1 else 'nights'}"
    first, last = likely_nights(needed, chance)
    return f"{clear}: likely {first} to {last}" if last > first else clear


def season_words(view: PlanView, chance: float) -> str:
    """Until when the target can be shot, and how many clear nights that likely is."""
    season = view.season
    if season is None:
        return ""
    nights = (season.last - max(season.first, view.night.date)).days + 1
    if nights < 1:
        return ""
    clear = nights * chance
    until = f"{season.last.day} {season.last:%b}"
    begins = (season.first - view.night.date).days > _WEEK
    when = f"{season.first.day} {season.first:%b} to {until}" if begins else f"until {until}"
    words = f"Season {when}: about {clear:.0f} clear nights."
    needed = view.coming.clear_nights
    if needed is not None and needed > clear:
        words += f" {needed} are needed."
    return words


def cost_rows(view: PlanView) -> list[Row]:
    """What blocks and cycles cost and risk."""
    tip = (
        "Open: share of the time with the shutter open.\n"
        "Safe: when clouds stop the night at any moment, "
        "the mean share of its subs that the least complete channel has."
    )
    ways = (("blocks", view.tonight.block_cost), ("cycles", view.tonight.cycle_cost))
    every = view.lanes[0].station.overheads.refocus_min
    rig, by_air = view.rig, view.rig.focus_by == "temperature"
    why = f"{rig.name} is focused after {rig.focus_after_c:g} °C" if by_air else ""
    focus = ("focus run", f"about every {every:.0f} min", f"{rig.focus_after_c:g} °C", why)
    rows = [focus] if by_air else []
    return rows + [
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
                f"{worst.filter} filter at f/{view.rig.focal / view.rig.aperture_mm:.1f}",
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
                    f"with {short(name)}",
                    "shared field",
                    f"{100 * part:.0f} %",
                    f"{name} keeps {100 * part:.0f} % of its field where all rigs see the target",
                )
            )
    return rows

"""What the Subs step says of a sub and of its group."""

from __future__ import annotations

from typing import Final

from ....core.model.log_columns import READ
from ....workspace.subs.groups import Group, GroupKey, Reviewed
from ...widgets.text import clock_text
from .plots import FIGURES

CAUSES: Final = {
    "cloud": "cloud",
    "focus": "soft focus",
    "drift": "drift",
    "sky": "dawn or light",
    "trail": "trail",
    "broken": "broken",
}


def group_label(key: GroupKey, count: int) -> str:
    """A group as it stands in the choice of groups."""
    what = f"{key.channel or '?'}   {key.night}   {key.contributor}"
    return f"{what}   {count} × {key.seconds:g} s"


def verdict(r: Reviewed) -> tuple[str, bool]:
    """What stands above the picture, and whether it wants a decision."""
    if not r.sub.kept:
        return f"out: {r.sub.reason or 'by hand'}", False
    if r.waiting and r.grade is not None:
        cause = CAUSES.get(r.grade.causes[0], r.grade.causes[0])
        return (f"{cause}: keep with low weight?" if r.helps else f"suggested: out, {cause}"), True
    if r.sub.mark:
        return "kept by hand", False
    return ("good" if r.grade is not None else "not measured yet"), False


def figure_rows(r: Reviewed, group: Group) -> list[tuple[str, str, str, str]]:
    """The plots' figures of one sub, against the middle of its group."""
    rows = []
    for figure in FIGURES:
        value = figure.value(r)
        known = sorted(v for o in group.subs if (v := figure.value(o)) is not None)
        middle = f"usual {figure.text(known[len(known) // 2])}" if known else ""
        rows.append(
            (figure.name, middle, figure.text(value) if value is not None else "–", figure.tip)
        )
    for column in READ:
        read = r.sub.figures.get(column.id)
        if read is not None and not column.splits_runs:
            rows.append((column.title, "", column.text(read), "From the header"))
    return rows


def cause_rows(group: Group) -> list[tuple[str, str, str, str]]:
    """What speaks against the subs that wait, and how many there are of each."""
    rows = [
        (CAUSES.get(c, c), "out", f"{n}", "Suggested to be left out")
        for c, n in group.causes.items()
    ]
    helps = sum(r.helps for r in group.subs if r.waiting)
    if helps:
        tip = (
            "Haze, light or a trail: a stack that weighs its subs and rejects what sticks out "
            "still gains from them"
        )
        rows.append(("poor, but of use", "low weight", f"{helps}", tip))
    return rows


def kept_rows(group: Group) -> list[tuple[str, str, str, str]]:
    """What the group holds, and what is left out of it."""
    kept = [r for r in group.subs if r.sub.kept]
    seconds = sum(r.sub.seconds for r in kept)
    lost = sum(r.sub.seconds for r in group.subs) - seconds
    out = len(group.subs) - len(kept)
    return [
        ("kept", f"{len(kept)} subs", clock_text(seconds / 3600), "Counted in the log"),
        ("out", f"{out} subs", clock_text(lost / 3600), "Rejected; the files stay"),
    ]

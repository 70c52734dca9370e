"""What is to be done at the telescope through a night, and when: filters, hand-overs, refocus,
flip, and the ends of what can be shot.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final, Literal

from .laying import Block
from .stretches import runs_of
from .tonight import Lane

ActionKind = Literal["begin", "filter", "target", "refocus", "flip", "end"]
_TOGETHER_DAYS: Final = 5 / 1440
"""A focus run so near to another action falls together with it."""


@dataclass(frozen=True)
class Action:
    """What, when (UTC Julian day), and in words."""

    kind: ActionKind
    moment: float
    words: str


def actions_of(lane: Lane, focused: float | None = None) -> list[Action]:
    """All actions of a rig's night in their order. ``focused`` is when it was focused last, where
    it is not as the blocks begin.
    """
    if not lane.blocks:
        return []
    blocks = lane.blocks
    out = [Action("begin", blocks[0].start, f"begin {_what(blocks[0])}")]
    for one, two in pairwise(blocks):
        if two.target != one.target:
            out.append(Action("target", one.end, f"go to {two.target}, {_what(two)}"))
        elif two.filter != one.filter:
            out.append(Action("filter", one.end, f"change to {_what(two)}"))
    out += _flips(lane)
    out += _ends(lane)
    out += _focus_runs(lane, out, focused)
    return sorted(out, key=lambda a: a.moment)


def _what(block: Block) -> str:
    return f"{'+'.join(block.channels)}, {block.subs} × {block.sub_s:.0f} s"


def _flips(lane: Lane) -> list[Action]:
    out = []
    for name, night in lane.nights.items():
        transit = night.target.transit if night.target is not None else None
        mine = [b for b in lane.blocks if b.target == name]
        if transit is not None and mine and mine[0].start < transit < mine[-1].end:
            out.append(Action("flip", transit, "flip to the other side"))
    return out


def _ends(lane: Lane) -> list[Action]:
    """Where shooting stops, and why."""
    last = lane.blocks[-1]
    night = lane.nights[last.target]
    dawn = night.dark[-1][1] if night.dark else math.inf
    run = runs_of(lane.stretches)[-1]
    closes = lane.stretches[run[-1]].end
    if last.end < closes - _TOGETHER_DAYS * 4:
        words = "all is shot"
    elif abs(closes - dawn) < _TOGETHER_DAYS:
        words = "the sky brightens"
    else:
        words = f"{last.target} goes behind the horizon"
    return [Action("end", last.end, f"end: {words}")]


def _focus_runs(lane: Lane, others: Sequence[Action], focused: float | None) -> list[Action]:
    """Every so often; a change of filter that wants one resets the clock."""
    every = lane.station.overheads.refocus_min / 1440
    blocks = lane.blocks
    clock = focused if focused is not None else blocks[0].start
    fresh = [a.moment for a in others if a.kind in ("target", "flip")]
    if not lane.station.overheads.focus_offsets:
        fresh += [a.moment for a in others if a.kind == "filter"]
    out = []
    while clock + every < blocks[-1].end:
        due = clock + every
        near = [m for m in fresh if clock < m <= due + _TOGETHER_DAYS]
        if near:
            clock = max(near)
            continue
        out.append(Action("refocus", due, "refocus"))
        clock = due
    return out

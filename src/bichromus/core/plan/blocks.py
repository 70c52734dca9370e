"""A night's time cut into blocks of one channel, overheads taken off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from .order import Overheads, run_through
from .segments import Segment


@dataclass(frozen=True)
class Block:
    """Subs of one channel in a row; Julian days."""

    channel: str
    start: float
    end: float
    subs: int
    sub_s: float


def blocks_of(
    segment: Segment,
    order: list[str],
    sub_s: Mapping[str, float],
    overheads: Overheads,
    flip: float | None,
) -> list[Block]:
    """A segment shared out among channels sub by sub, in ``order``: blocks, with the overheads of
    focus, filter and flip.
    """
    flip_s = (
        None
        if flip is None or not segment.start < flip < segment.end
        else (flip - segment.start) * 86400
    )
    shots = run_through(order, sub_s, overheads, flip_s)
    out: list[Block] = []
    for shot in shots:
        start, end = segment.start + shot.start_s / 86400, segment.start + shot.end_s / 86400
        if end > segment.end + 1e-9:
            break
        flipped = flip is not None and out and out[-1].end <= flip < start
        if out and out[-1].channel == shot.channel and not flipped:
            out[-1] = replace(out[-1], end=end, subs=out[-1].subs + 1)
        else:
            out.append(Block(shot.channel, start, end, 1, sub_s[shot.channel]))
    return out

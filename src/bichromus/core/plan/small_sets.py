"""Sets that are wanted for less than an hour, as R, G and B for the stars' colours: shot whole and
in one stretch where a night holds that.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from .allocate import Want
from .segments import Segment

SMALL_H: Final = 1.0
"""Hours missing below which a set is small."""
_TURNS: Final = 2  # in which each set is shot: a cloud leaves some of every colour


@dataclass(frozen=True)
class SmallSets:
    """Subs by channel that are shot in the segment of a number, in ``hours`` by the clock; None
    where no segment holds all of them, with the hours that they want.
    """

    segment: int | None
    counts: dict[str, int]
    hours: float

    def order(self) -> list[str]:
        """Channel by channel, in turns."""
        left, out = dict(self.counts), []
        for turn in range(_TURNS, 0, -1):
            for name in left:
                now = math.ceil(left[name] / turn)
                out += [name] * now
                left[name] -= now
        return out


def small_sets(
    segments: Sequence[Segment],
    wants: Sequence[Want],
    missing_h: Mapping[str, float],
    dark_rate: Mapping[str, float],
    efficiency: float,
) -> SmallSets | None:
    """Where small sets fit in whole, in the sky that is best for them; None where none is wanted.
    ``missing_h`` are hours under the dark sky, of ``dark_rate`` each.
    """
    small = [w for w in wants if 0 < missing_h[w.name] < SMALL_H]
    if not small:
        return None
    best: SmallSets | None = None
    least = math.inf
    for number, segment in enumerate(segments):
        rates = {w.name: w.rate(str(number)) for w in small}
        if min(rates.values()) <= 0:
            continue
        hours = {n: missing_h[n] * dark_rate[n] / rate for n, rate in rates.items()}
        counts = {w.name: max(math.ceil(hours[w.name] * 3600 / w.sub_s - 0.1), 1) for w in small}
        clock = sum(counts[w.name] * w.sub_s for w in small) / 3600 / efficiency
        if clock <= segment.hours and clock < least:
            best, least = SmallSets(number, counts, clock), clock
    wanted = sum(missing_h[w.name] for w in small) / efficiency
    return best or SmallSets(None, {w.name: 0 for w in small}, wanted)

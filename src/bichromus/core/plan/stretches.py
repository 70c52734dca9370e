"""The usable hours of a night in stretches of the same sky: the same targets open, the Moon up or
down.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np

from .dates import RISE
from .night import Night, Track, spans
from .station import Span

_DARK_DEG: Final = 18.0  # the Sun's depression from which nothing of it is left
_TWILIT_DAYS: Final = 0.25 / 24
_NO_GAP_DAYS: Final = 1e-6
_SHORTEST_H: Final = 0.1


@dataclass(frozen=True)
class Stretch:
    """From and to, UTC Julian days, with the targets that are open then."""

    start: float
    end: float
    moonlit: bool
    targets: tuple[str, ...]

    @property
    def hours(self) -> float:
        """How long it is."""
        return (self.end - self.start) * 24

    def moments(self, step_days: float) -> np.ndarray:
        """The middles of its steps (N,), each no longer than ``step_days``."""
        count = max(math.ceil((self.end - self.start) / step_days - 1e-9), 1)
        return self.start + (np.arange(count) + 0.5) * (self.end - self.start) / count


def stretches_of(
    nights: Mapping[str, Night], cloudy: Sequence[Span] = (), awake: Span | None = None
) -> list[Stretch]:
    """The windows of several targets in the same night, cut where one opens or closes, where the
    Moon rises or sets, where clouds stand and where own hours end, and in twilight into short
    pieces.
    """
    windows = {
        name: [p for w in night.target.windows for p in _allowed(*w, cloudy, awake)]
        for name, night in nights.items()
        if night.target is not None
    }
    if not any(windows.values()):
        return []
    track = next(iter(nights.values())).track
    down = spans(track.utc, RISE - track.moon)
    dark = [t for span in spans(track.utc, -_DARK_DEG - track.sun) for t in span]
    turns = {*dark, *(t for s in down for t in s)}
    turns |= {t for parts in windows.values() for p in parts for t in p}
    out: list[Stretch] = []
    for left, right in _pieces(sorted(turns), track):
        middle = (left + right) / 2
        names = tuple(n for n, parts in windows.items() if any(a <= middle <= b for a, b in parts))
        if names and (right - left) * 24 >= _SHORTEST_H:
            lit = not any(s <= middle <= e for s, e in down)
            out.append(Stretch(left, right, lit, names))
    return out


def runs_of(stretches: Sequence[Stretch]) -> list[list[int]]:
    """Numbers of stretches that follow one another without a gap, with the Moon up in all of them
    or in none: twilight does not part them.
    """
    out: list[list[int]] = []
    for number, stretch in enumerate(stretches):
        before = stretches[out[-1][-1]] if out else None
        if (
            before is not None
            and before.moonlit == stretch.moonlit
            and stretch.start - before.end < _NO_GAP_DAYS
        ):
            out[-1].append(number)
        else:
            out.append([number])
    return out


def _pieces(edges: Sequence[float], track: Track) -> Iterator[Span]:
    """From edge to edge; in twilight by quarters of an hour."""
    for left, right in pairwise(edges):
        if right - left < _NO_GAP_DAYS:
            continue
        down = -float(np.interp((left + right) / 2, track.utc, track.sun))
        parts = math.ceil((right - left) / _TWILIT_DAYS - 1e-6) if down < _DARK_DEG else 1
        yield from pairwise(np.linspace(left, right, max(parts, 1) + 1).tolist())


def _allowed(start: float, end: float, holes: Sequence[Span], awake: Span | None) -> list[Span]:
    if awake is not None:
        start, end = max(start, awake[0]), min(end, awake[1])
    parts = [(start, end)] if end > start else []
    for a, b in holes:
        parts = [
            p for s, e in parts for p in ((s, min(e, a)), (max(s, b), e)) if p[1] - p[0] > 1e-6
        ]
    return parts

"""The dark hours of a night in pieces of the same sky."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from .dates import RISE
from .night import Night, spans
from .sky import moon_nanolamberts, phase_angle


@dataclass(frozen=True)
class Segment:
    """A stretch of a night under one kind of sky; Julian days. ``moon_nl`` is the moonlight on the
    target.
    """

    start: float
    end: float
    moonlit: bool
    moon_nl: float

    @property
    def hours(self) -> float:
        """How long it is."""
        return (self.end - self.start) * 24


def segments_of(night: Night, cloudy: Sequence[tuple[float, float]] = ()) -> list[Segment]:
    """The target's windows, cut where the Moon rises or sets and where clouds stand."""
    if night.target is None or night.track.target is None or night.track.moon_distance is None:
        return []
    track = night.track
    down = spans(track.utc, RISE - track.moon)
    out: list[Segment] = []
    for start, end in night.target.windows:
        for a, b in _without(start, end, cloudy):
            edges = sorted({a, b, *(t for s in down for t in s if a < t < b)})
            for left, right in pairwise(edges):
                middle = (left + right) / 2
                lit = not any(s <= middle <= e for s, e in down)
                out.append(Segment(left, right, lit, _moonlight(night, middle) if lit else 0.0))
    return [s for s in out if s.hours >= 0.1]


def _without(
    start: float, end: float, holes: Sequence[tuple[float, float]]
) -> list[tuple[float, float]]:
    parts = [(start, end)]
    for a, b in holes:
        parts = [
            p for s, e in parts for p in ((s, min(e, a)), (max(s, b), e)) if p[1] - p[0] > 1e-6
        ]
    return parts


def _moonlight(night: Night, moment: float) -> float:
    track = night.track
    assert track.target is not None
    assert track.moon_distance is not None
    at = [
        float(np.interp(moment, track.utc, v))
        for v in (track.moon, track.target, track.moon_distance)
    ]
    lit = night.moon.lit
    return moon_nanolamberts(phase_angle(lit), 90 - at[0], 90 - at[1], at[2])

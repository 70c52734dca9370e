"""The dark hours of a night in pieces of the same sky."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np

from .dates import RISE
from .night import Night, Track, spans
from .sky import moon_nanolamberts, phase_angle
from .twilight import NightLight

_DARK_DEG: Final = 18.0  # the Sun's depression from which nothing of it is left
_TWILIT_DAYS: Final = 0.25 / 24
_NO_GAP_DAYS: Final = 1e-6


@dataclass(frozen=True)
class Segment:
    """A stretch of a night under one kind of sky; Julian days. ``moon_nl`` is the moonlight on the
    target, ``sun_down_deg`` how far the Sun is down in its middle.
    """

    start: float
    end: float
    moonlit: bool
    moon_nl: float
    sun_down_deg: float = 90.0

    @property
    def light(self) -> NightLight:
        """What brightens its sky."""
        return NightLight(self.moon_nl, self.sun_down_deg)

    @property
    def hours(self) -> float:
        """How long it is."""
        return (self.end - self.start) * 24


def segments_of(night: Night, cloudy: Sequence[tuple[float, float]] = ()) -> list[Segment]:
    """The target's windows, cut where the Moon rises or sets and where clouds stand, and in
    twilight into short pieces, of which each is as bright as its middle.
    """
    if night.target is None or night.track.target is None or night.track.moon_distance is None:
        return []
    track = night.track
    down = spans(track.utc, RISE - track.moon)
    dark = [t for span in spans(track.utc, -_DARK_DEG - track.sun) for t in span]
    out: list[Segment] = []
    for start, end in night.target.windows:
        for a, b in _without(start, end, cloudy):
            turns = (*dark, *(t for s in down for t in s))
            edges = sorted({a, b, *(t for t in turns if a < t < b)})
            for left, right in _pieces(edges, track):
                middle = (left + right) / 2
                lit = not any(s <= middle <= e for s, e in down)
                moonlight = _moonlight(night, middle) if lit else 0.0
                out.append(Segment(left, right, lit, moonlight, _sun_down(track, middle)))
    return [s for s in out if s.hours >= 0.1]


def runs_of(segments: Sequence[Segment]) -> list[list[int]]:
    """Numbers of segments that follow one another without a gap, with the Moon up in all of them or
    in none: twilight does not part them.
    """
    out: list[list[int]] = []
    for number, segment in enumerate(segments):
        before = segments[out[-1][-1]] if out else None
        if (
            before is not None
            and before.moonlit == segment.moonlit
            and segment.start - before.end < _NO_GAP_DAYS
        ):
            out[-1].append(number)
        else:
            out.append([number])
    return out


def _pieces(edges: Sequence[float], track: Track) -> Iterator[tuple[float, float]]:
    """From edge to edge; in twilight by quarters of an hour."""
    for left, right in pairwise(edges):
        twilit = _sun_down(track, (left + right) / 2) < _DARK_DEG
        count = max(math.ceil((right - left) / _TWILIT_DAYS - 1e-6), 1) if twilit else 1
        yield from pairwise(np.linspace(left, right, count + 1).tolist())


def _sun_down(track: Track, moment: float) -> float:
    return -float(np.interp(moment, track.utc, track.sun))


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

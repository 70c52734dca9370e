"""A mosaic's panels: their centres and the angle that each wants, whether one angle for all would
open a gap, and what is done of each.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from .earth import direction
from .framing import Framing, Point, from_plane, panel_centres


@dataclass(frozen=True)
class Panel:
    """A panel: its number from 1 on, centre (J2000 degrees), camera angle (north through east), and
    hours that are done by channel.
    """

    number: int
    ra: float
    dec: float
    angle: float
    done: Mapping[str, float] = field(default_factory=dict)

    def share(self, wanted: Mapping[str, float]) -> float:
        """Of the hours wanted of a panel what is done; 1 where nothing is wanted."""
        whole = sum(wanted.values())
        if whole <= 0:
            return 1.0
        return sum(min(self.done.get(c, 0.0), h) for c, h in wanted.items()) / whole


@dataclass(frozen=True)
class Pointing:
    """Hours of a channel that were shot at a position (J2000 degrees)."""

    ra: float
    dec: float
    channel: str
    hours: float


def panels_of(target: Point, frame: Framing, overlap: float, angle: float) -> list[Panel]:
    """The panels of a mosaic laid along the frame of its middle, row by row. A camera that is kept
    square to north turns by d(alpha) sin(delta) from one to the other: each has an angle of its
    own.
    """
    out = []
    for number, (east, north) in enumerate(panel_centres(frame, overlap, angle), 1):
        ra, dec = from_plane(*target, east, north)
        away = (ra - target[0] + 180) % 360 - 180
        turned = angle + away * math.sin(math.radians(dec))
        out.append(Panel(number, ra, dec, turned))
    return out


def opens_gap(panels: Sequence[Panel], frame: Framing, overlap: float) -> bool:
    """Whether one camera angle for all panels would eat up the overlap of neighbours: the corner of
    a turned panel comes short of the frame by half its side times the turn.
    """
    if len(panels) < 2:
        return False
    turns = [p.angle for p in panels]
    middle = float(np.median(turns))
    worst = math.radians(max(abs(t - middle) for t in turns))
    long, short = max(frame.field), min(frame.field)
    return long / 2 * math.sin(worst) > overlap * short


def with_done(panels: Sequence[Panel], pointings: Sequence[Pointing]) -> list[Panel]:
    """The panels with what was shot nearest to each of them."""
    centres = np.array([direction(p.ra, p.dec) for p in panels])
    done: list[dict[str, float]] = [dict(p.done) for p in panels]
    for p in pointings:
        nearest = int(np.argmax(centres @ direction(p.ra, p.dec)))
        done[nearest][p.channel] = done[nearest].get(p.channel, 0.0) + p.hours
    return [Panel(p.number, p.ra, p.dec, p.angle, d) for p, d in zip(panels, done, strict=True)]


def next_panel(panels: Sequence[Panel], wanted: Mapping[str, float]) -> Panel | None:
    """The panel that lacks most; None where none lacks anything."""
    lacking = [p for p in panels if p.share(wanted) < 1]
    return min(lacking, key=lambda p: (p.share(wanted), p.number), default=None)

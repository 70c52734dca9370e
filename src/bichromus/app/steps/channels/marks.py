"""What is drawn over a channel: saturated cores and halos, how stars miss, what is not sky, and the
height lines of a gradient.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final

import numpy as np

from ....core.align.models import F64
from ....core.numerics.height_lines import height_lines, round_step
from ....workspace.channels.notes import GradientNote
from ....workspace.channels.prepared import Prepared
from ....workspace.project.state import Disc
from ...canvas.marks import Mark

ARROWS: Final = 300
"""Arrows of the field of misses that are drawn: more would hide the picture."""
_NODES: Final = 49
"""Nodes each way of a gradient from which its height lines are drawn: it is smooth."""
_LABELLED: Final = 0.15  # of the width, from the diagonal, that a line's figure may stand
_ARROW_PX = 10.0  # a typical miss is drawn about this long, in pixels of the picture
_SMALLEST_MISS_PX = 1e-4  # below it a miss is rounding, and enlarging it says nothing


def core_marks(prepared: Prepared) -> list[Mark]:
    """Saturated cores, and how far their halos reach."""
    marks: list[Mark] = []
    for core in prepared.notes.cores:
        halo = core.halo_px
        words = f"{core.pixels:.0f} px full" + (f", halo {halo:.0f} px" if halo else "")
        marks.append(Mark("core", core.x, core.y, 4.0, words="" if halo else words))
        if halo:
            marks.append(Mark("ring", core.x, core.y, halo, words=words))
    return marks


def sky_marks(discs: Iterable[Disc]) -> list[Mark]:
    """Discs that must not count as sky."""
    return [Mark("disc", x, y, r) for x, y, r in discs]


def height_marks(note: GradientNote, sigma: float) -> list[Mark]:
    """Height lines of what is taken off, in noises ``sigma`` of a pixel about its middle."""
    tall, wide = note.model.shape
    x, y = np.linspace(0, wide - 1.0, _NODES), np.linspace(0, tall - 1.0, _NODES)
    gx, gy = np.meshgrid(x, y)
    heights = (note.model.at(gx.ravel(), gy.ravel()).reshape(gx.shape) - note.level) / sigma
    step = round_step(float(np.ptp(heights)))
    marks = [Mark("words", 0.0, 0.97 * tall, words=f"the sky's slope, a line each {step:g} σ")]
    for n in range(int(np.ceil(heights.min() / step)), int(np.floor(heights.max() / step)) + 1):
        pieces = height_lines(heights, x, y, n * step)
        if not len(pieces):
            continue
        starts, goes = pieces[:, :2], pieces[:, 2:] - pieces[:, :2]
        marks += [
            Mark("line", float(a[0]), float(a[1]), dx=float(d[0]), dy=float(d[1]))
            for a, d in zip(starts, goes, strict=True)
        ]
        away = np.hypot(*(starts - _label_line(starts, wide, tall)).T)
        at = starts[int(np.argmin(away))]
        if away.min() > _LABELLED * wide:
            continue  # a corner that the diagonal does not see holds other words
        marks.append(
            Mark("words", float(at[0]), float(at[1]), words=f"{n * step:+g}" if n else "0")
        )
    return marks


def _label_line(places: F64, wide: int, tall: int) -> F64:
    """The nearest places of the falling diagonal: where height lines get their figures."""
    along = np.clip((places[:, 0] / wide + places[:, 1] / tall) / 2, 0.12, 0.92)
    return np.stack([along * wide, along * tall], 1)


def miss_marks(rows: F64, label: str, foot: float) -> list[Mark]:
    """Arrows from where a star should lie to where it lies, enlarged to be seen. ``rows`` hold
    (x, y, dx, dy) in pixels; the words stand at the height ``foot``.
    """
    if not len(rows):
        return []
    typical = float(np.median(np.hypot(rows[:, 2], rows[:, 3])))
    times = float(10 ** round(np.log10(max(_ARROW_PX / max(typical, _SMALLEST_MISS_PX), 1))))
    arrows = [
        Mark("arrow", float(x), float(y), times, float(dx), float(dy))
        for x, y, dx, dy in rows[:ARROWS]
    ]
    words = f"{label}: {times:.0f} times enlarged, typically {typical:.2f} px"
    return [*arrows, Mark("words", 0.0, foot, words=words)]

"""What is drawn over a channel: saturated cores and halos, how stars miss, what is not sky."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final

import numpy as np

from ....core.align.models import F64
from ....workspace.channels.prepared import Prepared
from ....workspace.project.state import Disc
from ...canvas.marks import Mark

ARROWS: Final = 300
"""Arrows of the field of misses that are drawn: more would hide the picture."""
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

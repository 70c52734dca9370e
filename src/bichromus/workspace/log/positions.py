"""Where the subs of the log looked: read from their headers once, and kept."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Final

from ...core.files.sub_header import read_position
from ...core.model.errors import BichromusError
from ...core.plan.mosaic import Pointing
from ..project.store import Store
from .sub import Sub

_GRID: Final = 100.0
"""Parts of a degree to which positions are told apart: no panel is so small."""
Position = tuple[float, float]


def known_positions(store: Store) -> dict[str, Position | None]:
    """By the identity of a sub; None where its header tells nothing."""
    if store.read_only:
        return {}
    rows: list[Any] = store.rows("SELECT identity, ra, dec FROM positions")
    return {str(i): None if ra is None else (float(ra), float(dec)) for i, ra, dec in rows}


def read_positions(store: Store, subs: Sequence[Sub]) -> bool:
    """Read what is not known yet; whether anything was."""
    if store.read_only:
        return False
    known = known_positions(store)
    found = []
    for s in subs:
        if s.identity in known or not s.file:
            continue
        try:
            ra, dec = read_position(Path(s.file)) or (None, None)
        except (BichromusError, OSError):
            continue  # it may be there another time
        found.append((s.identity, ra, dec))
    if found:
        with store.writing() as db:
            db.executemany("INSERT OR REPLACE INTO positions VALUES (?, ?, ?)", found)
    return bool(found)


def pointings_of(
    subs: Sequence[Sub], positions: Mapping[str, Position | None]
) -> tuple[Pointing, ...]:
    """Hours of kept subs by position and channel; a sub of several bands counts for each."""
    hours: dict[tuple[float, float, str], float] = defaultdict(float)
    for s in subs:
        place = positions.get(s.identity)
        if place is None or not s.kept:
            continue
        ra, dec = (round(v * _GRID) / _GRID for v in place)
        for line in s.channel.split("+") if s.channel else ():
            hours[ra, dec, line] += s.seconds / 3600
    return tuple(Pointing(ra, dec, c, h) for (ra, dec, c), h in sorted(hours.items()))

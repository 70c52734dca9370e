"""About how long the steps of a preparation take, so that its progress tells the truth: seconds of
one core for a megapixel and for a star, measured on the demo and on stacks of 61 megapixels.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np

from ...core.files.frames import open_frame
from ...core.measure import find_stars
from ...core.model.channel import CHANNELS
from ...core.model.errors import InputError
from ..project.state import PreparationState, SourceState
from ..project.store import Store
from ..work.together import at_once
from .context import PrepareContext
from .matches import known_count
from .sources import RGB, bytes_of
from .tasks import Task

_USUAL_STARS: Final = 400.0
"""Stars a megapixel where none were sought yet: a field has fifty to two thousand."""


_SAMPLE_PX: Final = 700
_LITTLE_MPX: Final = 50.0
_MAPPED: Final = (".fits", ".fit", ".fts")  # of which a part is read without the rest


@dataclass(frozen=True)
class _Cost:
    """Of a step: seconds for a megapixel, and for a star."""

    megapixel_s: float
    star_s: float

    def of(self, source: SourceState, stars: float) -> float:
        """Of a stack with so many stars a megapixel."""
        return (self.megapixel_s + self.star_s * stars) * _megapixels(source)


_MATCHED: Final = _Cost(0.042, 135e-6)  # a stack, its stars found
_PLANE: Final = _Cost(0.107, 185e-6)  # laid on the grid, measured
_UNMIXED: Final = _Cost(0.45, 500e-6)  # a colour stack behind a line filter
_SKY: Final = _Cost(0.07, 20e-6)  # another gradient
_POOLED: Final = _Cost(0.11, 136e-6)  # a pool measured
_ADDED: Final = _Cost(0.06, 0.0)  # a stack that is pooled
_SPLIT: Final = _Cost(1.2, 2000e-6)
_IN_TURN: Final = 1.75  # not all of a stack's steps use both cores
_NOTHING: Final = 0.002  # what is known already


def sampled(stacks: Sequence[SourceState]) -> float:
    """Stars a megapixel in the middle of the first of some stacks, where that is read in a moment
    and all of them take more than that; else as many as is usual.
    """
    source, path = stacks[0], Path(stacks[0].path)
    if path.suffix.lower() not in _MAPPED or sum(map(_megapixels, stacks)) < _LITTLE_MPX:
        return _USUAL_STARS
    top, left = (max((n - _SAMPLE_PX) // 2, 0) for n in source.shape)
    with contextlib.suppress(InputError, OSError):
        part = open_frame(path).region(top, top + _SAMPLE_PX, left, left + _SAMPLE_PX)
        if np.isfinite(part).all() and part.size:
            return find_stars(np.ascontiguousarray(part)).count / (part.size / 1e6)
    return _USUAL_STARS


def before(new: Sequence[SourceState], wanted: PreparationState, usual: float) -> float:
    """The share of matching ``new`` stacks in all that is to be done, while nothing is known."""
    first = sum(_MATCHED.of(s, usual) for s in new)
    made = sum(_whole(s, usual) for s in wanted.sources)
    made *= in_turn([bytes_of(s) for s in wanted.sources])
    then = made + pooled(wanted.sources, None, usual) + finished(wanted, None, usual)
    return first / (first + then) if new else 0.0


def in_turn(needs: Sequence[float]) -> float:
    """How much longer stacks take that are prepared one after the other, for want of memory."""
    return _IN_TURN if len(needs) > 1 and at_once(needs) == 1 else 1.0


def made(task: Task, context: PrepareContext) -> float:
    """Of a task."""
    density = {s.id: stars_of(context.store, s) for s in task.stacks}
    keys = list(task.keys(context).values())
    if all(context.has(key) for key in keys):
        return _NOTHING
    if all(context.has_sibling(key) for key in keys):
        first = task.stacks[0]
        return len(keys) * _SKY.of(first, density[first.id])
    return sum(_whole(s, density[s.id]) for s in task.stacks)


def pooled(
    stacks: Sequence[SourceState], store: Store | None, usual: float = _USUAL_STARS
) -> float:
    """Of all pools of the channels that several stacks hold."""
    total = 0.0
    for name in CHANNELS:
        held = [s for s in stacks if name in s.lines]
        if len(held) > 1:
            largest = max(held, key=_megapixels)
            total += _POOLED.of(largest, stars_of(store, largest, usual)) + sum(
                _ADDED.of(largest, 0.0) for _ in held
            )
    return total


def finished(wanted: PreparationState, store: Store | None, usual: float = _USUAL_STARS) -> float:
    """Of stars split off and of cleaning."""
    cleaned: Mapping[str, object] = {n: 0 for on in wanted.cleaning.values() for n in on}
    count = len({*wanted.split, *cleaned})
    if not count or not wanted.sources:
        return _NOTHING
    largest = max(wanted.sources, key=_megapixels)
    return count * _SPLIT.of(largest, stars_of(store, largest, usual)) + _NOTHING


def stars_of(store: Store | None, source: SourceState, usual: float = _USUAL_STARS) -> float:
    """Stars a megapixel of a stack, where they were sought; else as many as is usual."""
    known = known_count(store, source) if store is not None else None
    return usual if known is None else known / max(_megapixels(source), 1e-9)


def _whole(source: SourceState, stars: float) -> float:
    if not source.colour:
        return _PLANE.of(source, stars)
    return 3 * _PLANE.of(source, stars) if source.lines == RGB else _UNMIXED.of(source, stars)


def _megapixels(source: SourceState) -> float:
    return source.shape[0] * source.shape[1] / 1e6

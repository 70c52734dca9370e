"""About how long the steps of a preparation take, so that its progress tells the truth: seconds a
megapixel on one core, measured on the demo; only their ratios count.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Final

from ...core.model.channel import CHANNELS
from ..project.state import PreparationState, SourceState
from .context import PrepareContext
from .sources import RGB
from .tasks import Task

_MATCHED: Final = 0.5  # a stack, its stars found
_PLANE: Final = 0.45  # laid on the grid, measured
_UNMIXED: Final = 2.7  # a colour stack behind a line filter
_SKY: Final = 0.15  # another gradient
_POOLED: Final = 0.5
_SPLIT: Final = 1.5
_NOTHING: Final = 0.002  # what is known already


def matched(stacks: Iterable[SourceState]) -> float:
    """Of stacks that are to be matched."""
    return _MATCHED * sum(map(_megapixels, stacks))


def made(task: Task, context: PrepareContext | None) -> float:
    """Of a task; without a context as if nothing were known."""
    if context is not None:
        keys = list(task.keys(context).values())
        if all(context.has(key) for key in keys):
            return _NOTHING
        if all(context.has_sibling(key) for key in keys):
            return _SKY * len(keys) * _megapixels(task.stacks[0])
    return sum(_whole(s) * _megapixels(s) for s in task.stacks)


def pooled(stacks: Sequence[SourceState]) -> float:
    """Of all pools of the channels that several stacks hold."""
    shared = [n for n in CHANNELS if sum(n in s.lines for s in stacks) > 1]
    return _POOLED * len(shared) * max(map(_megapixels, stacks), default=0.0)


def finished(wanted: PreparationState) -> float:
    """Of stars split off and of cleaning."""
    cleaned: Mapping[str, object] = {n: 0 for on in wanted.cleaning.values() for n in on}
    largest = max(map(_megapixels, wanted.sources), default=0.0)
    return _SPLIT * largest * len({*wanted.split, *cleaned}) + _NOTHING


def _whole(source: SourceState) -> float:
    if not source.colour:
        return _PLANE
    return 3 * _PLANE if source.lines == RGB else _UNMIXED


def _megapixels(source: SourceState) -> float:
    return source.shape[0] * source.shape[1] / 1e6

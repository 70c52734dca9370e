"""The review of subs as it stands: the groups, the one in view, and the sub in view."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..log.sub import Sub
from .groups import (
    Group,
    GroupKey,
    Reviewed,
)


@dataclass(frozen=True)
class SubsSnapshot:
    """The review of one moment: all groups, how many subs of those that were judged want a
    decision, the group in view and the place of the sub in view within it, the frame's size (H, W).
    """

    groups: Mapping[GroupKey, Sequence[Sub]] = field(default_factory=dict)
    waiting: Mapping[GroupKey, int] = field(default_factory=dict)
    group: Group | None = None
    index: int = 0
    shape: tuple[int, int] | None = None

    @property
    def current(self) -> Reviewed | None:
        """The sub in view."""
        found = self.group.subs if self.group else ()
        return found[self.index] if self.index < len(found) else None


def place_in(group: Group, current: Reviewed | None) -> int:
    """Where a sub stands in a group; without one, the first that wants a decision."""
    subs: Any = enumerate(group.subs)
    if current is None:
        return next((n for n, r in subs if r.waiting), 0)
    same = current.sub.identity
    return next((n for n, r in subs if r.sub.identity == same), 0)

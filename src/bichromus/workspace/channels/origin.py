"""Where a prepared channel comes from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

OriginKind = Literal[
    "stack", "plane", "extracted", "pooled", "cleaned", "starless", "star_colour", "removable"
]
_ID_LETTERS = 6
_HEADS = {"pooled": "pool", "starless": "starless", "star_colour": "colour", "removable": "off"}


@dataclass(frozen=True)
class Origin:
    """A channel of one kind of making. ``stacks`` are the ids of the stacks that it was made of,
    where it was made of stacks; ``step`` the cleaning step that made it, where one did.
    """

    kind: OriginKind
    channel: str
    stacks: tuple[str, ...] = ()
    step: str = ""

    @property
    def key(self) -> str:
        """A name for dictionaries and the project's state; nothing is ever read out of it."""
        if self.kind == "stack":
            return self.stacks[0]
        if self.kind == "plane":
            return f"{self.channel}@{self.stacks[0]}"
        if self.kind == "extracted":
            return f"{self.channel}@{'-'.join(s[:_ID_LETTERS] for s in self.stacks)}"
        head = {
            "pooled": "pool",
            "starless": "starless",
            "star_colour": "colour",
            "removable": "off",
        }
        return f"{head.get(self.kind, self.step)}@{self.channel}"


def pooled(channel: str) -> Origin:
    """The pool of a channel."""
    return Origin("pooled", channel)


def cleaned(channel: str, step: str) -> Origin:
    """What a cleaning step left of a channel."""
    return Origin("cleaned", channel, step=step)

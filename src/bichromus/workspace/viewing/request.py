"""What the screen asks for, and what can be shown of a channel."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from ...core.numerics.sampling import View

VIEW_MODES: Final = {
    "plain": "the colour plane that a line came from",
    "raw": "the channel with its gradient",
    "heights": "the channel under the height lines of its gradient",
    "sky": "what does not count as sky darkened",
    "difference": "how two pooled stacks differ",
    "starless": "without stars",
    "stars": "the stars alone",
    "colours": "the stars in colour",
    "rejected": "what was left out of a pool marked",
    "removed": "the noise that is taken off it",
}
"""What can be shown of a channel in place of itself."""


@dataclass(frozen=True)
class Request:
    """``alone`` names a channel (or an origin's key) to be shown by itself; ``before`` asks for the
    blend as it was before the last change; ``crops`` for five crops along the diagonals at one
    to one, in a sheet of the view's size; ``view_mode`` is what is shown of a channel alone:
    nothing for itself, or one of VIEW_MODES. A view that is ``finished`` is one of the picture as
    it is presented, cropped and turned; else of the channels' grid. ``mask`` is the number of a
    mask to be seen; ``lines``: where lines on top act is to be seen.
    """

    id: int
    view: View
    alone: str | None = None
    before: bool = False
    crops: bool = False
    view_mode: str = ""
    finished: bool = True
    mask: int = -1
    lines: bool = False

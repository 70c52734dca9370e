"""The lines and columns of the matrix of nights: what there is room for, and what each says."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import accumulate
from typing import Final

from PyQt6.QtCore import QRectF

from ....core.model.channel import LONG_NAMES
from ....core.model.log_columns import COLUMNS
from ....workspace.log.view import LogView
from ...widgets.text import clock_text

HEAD, FOOT, NIGHT, RUN_HEAD, RUN = 26, 34, 32, 22, 26
FIXED: Final = (("night", 76), ("station", 84), ("Moon", 58), ("stars", 52))
"""Columns before the channels, and their widths."""
FIRST_COLUMN: Final = FIXED[0][1]
_LEAST_FIXED = 2  # night and station are never left out
_LEAST_CHANNEL, _MOST_CHANNEL = 54, 150  # widths of a channel's column
_FIGURES_FROM, _NOTES_FROM = 0.40, 0.78  # shares of the width
_LONG_FIGURE, _GAP = -10.0, 2  # a figure that is long in each form; letters between two columns
_LETTERS: Final = [max(len(c.title), len(c.text(_LONG_FIGURE))) + _GAP for c in COLUMNS]
RUN_COLUMNS: Final = (
    ("run", 0.0),
    ("subs", 0.10),
    ("rejected", 0.24),
    *(
        (c.title, _FIGURES_FROM + (_NOTES_FROM - _FIGURES_FROM) * before / sum(_LETTERS))
        for c, before in zip(COLUMNS, accumulate(_LETTERS, initial=0), strict=False)
    ),
    ("notes", _NOTES_FROM),
)
"""Headings of a night's runs, and where each begins, as a share of the width."""


@dataclass(frozen=True)
class Line:
    """One line of the matrix: a night, the heading of its runs (``run`` -1), or one of its runs."""

    row: int
    run: int | None = None

    @property
    def height(self) -> int:
        """In pixels."""
        return NIGHT if self.run is None else RUN_HEAD if self.run < 0 else RUN


class Columns:
    """The columns of a matrix ``width`` pixels wide. In a narrow window the channels come first."""

    def __init__(self, width: float, channels: tuple[str, ...]) -> None:
        shown: tuple[tuple[str, int], ...] = FIXED
        count = max(len(channels), 1)
        while (
            len(shown) > _LEAST_FIXED
            and (width - sum(w for _, w in shown)) / count < _LEAST_CHANNEL
        ):
            shown = shown[:-1]
        left = sum(w for _, w in shown)
        each = min((width - left) / count, _MOST_CHANNEL)
        self.fixed = shown
        self.channels = [(c, QRectF(left + n * each, 0, each, 1)) for n, c in enumerate(channels)]

    def channel_at(self, x: float) -> str:
        """The channel whose column holds a place; empty outside of all."""
        return next((c for c, box in self.channels if box.left() <= x < box.right()), "")


def tip(view: LogView, channel: str, line: Line | None) -> str:
    """What stands under the pointer, in words; ``line`` None is the heading."""
    if line is None:
        name = LONG_NAMES.get(channel, channel)
        return f"{name}: hours kept, night by night" if name else ""
    row = view.rows[line.row]
    if line.run is not None and line.run >= 0:
        run = row.runs[line.run]
        return (
            f"{run.channel}, {run.rig}\nEnter or a double click: look at it, change it, add notes."
        )
    if not channel or not (row.hours(channel) or row.lost(channel)):
        return "Click or Enter opens the night into its runs."
    lost = f", {clock_text(row.lost(channel))} rejected (outlined)" if row.lost(channel) else ""
    kept = clock_text(row.hours(channel))
    return f"{channel}, {row.night:%-d %B %Y}, {row.contributor}: {kept} kept{lost}"

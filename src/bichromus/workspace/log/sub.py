"""One sub of the log, from a row of its table or from a typed run; and what makes subs one run."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ...core.model.channel import filter_name
from ...core.model.log_columns import COLUMNS, READ, Figures
from ...core.model.visible import visible
from ..project.journal import Row


@dataclass(frozen=True, slots=True)
class Sub:
    """One sub of the log. ``channel`` is empty where the filter is not known; ``file`` and
    ``start`` where the sub was typed. ``mark`` is keep or reject where it was decided by hand;
    ``figures`` are the log's columns.
    """

    file: str
    object_name: str
    channel: str
    filter: str
    night: dt.date
    start: dt.datetime | None
    seconds: float
    contributor: str
    telescope: str
    camera: str
    kept: bool
    reason: str
    identity: str = ""
    mark: str = ""
    scale_arcsec: float | None = None
    longitude: float | None = None
    figures: Figures = field(default_factory=dict)

    @property
    def run_figures(self) -> tuple[float | None, ...]:
        """The figures that make another run of it where they differ."""
        return tuple(self.figures.get(c.id) for c in COLUMNS if c.splits_runs)


def sub_of(row: Sequence[Any], channel: str, start: dt.datetime, night: dt.date) -> Sub:
    """A row of the table as a sub; the columns of headers stand last."""
    (path, name, text, _, seconds, who, telescope, camera, longitude, in_rejected) = row[:10]
    mark, reason, identity, scale = row[10:14]
    if not reason and in_rejected and not mark:
        reason = "in a folder called rejected"
    return Sub(
        path,
        visible(name),
        channel,
        visible(text),
        night,
        start,
        seconds,
        visible(who),
        visible(telescope),
        visible(camera),
        mark == "keep" if mark else not in_rejected,
        reason,
        identity,
        mark or "",
        scale,
        longitude,
        dict(zip((c.id for c in READ), row[14:], strict=True)),
    )


def typed_sub(run: Row, night: dt.date, kept: bool) -> Sub:
    """One sub of a typed run."""
    return Sub(
        "",
        visible(run["object"]),
        run["channel"],
        filter_name(run["channel"]).text,
        night,
        None,
        run["seconds"],
        visible(run["contributor"]),
        visible(run["telescope"]),
        visible(run["camera"]),
        kept,
        "" if kept else "typed as rejected",
        run["id"],
        figures={c.id: run[c.id] for c in READ},
    )


def run_key(
    night: str,
    contributor: str,
    telescope: str,
    camera: str,
    channel: str,
    seconds: float,
    figures: Sequence[float | None],
) -> str:
    """What makes subs one run; ``figures`` are those of the columns that split runs."""
    parts = [f"{v:g}" if v is not None else "" for v in figures]
    return "|".join((night, contributor, telescope, camera, channel, f"{seconds:g}", *parts))

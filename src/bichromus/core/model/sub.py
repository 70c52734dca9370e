"""A single exposure as its header tells it, and which night it belongs to."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Final

from .channel import FilterName, filter_name
from .log_columns import Figures

_LIGHTS: Final = {"light", "object", "science", ""}
_OTHERS: Final = {
    "dark",
    "flat",
    "bias",
    "offset",
    "zero",
    "darkflat",
    "flatdark",
    "biasdark",
    "darkbias",
}
GAP_HOURS: Final = 6.0


@dataclass(frozen=True)
class SubHeader:
    """What a sub's header says; None where it says nothing. ``start`` is UTC, ``seconds`` its
    exposure, ``figures`` what it tells of the log's columns.
    """

    start: dt.datetime
    seconds: float
    filter: FilterName
    object_name: str = ""
    observer: str = ""
    telescope: str = ""
    camera: str = ""
    figures: Figures = field(default_factory=dict)
    longitude: float | None = None
    scale_arcsec: float | None = None

    @property
    def identity(self) -> str:
        """Equal for the same sub, wherever it lies and whatever it is called."""
        return "|".join(
            (
                f"{self.start:%Y-%m-%dT%H:%M:%S.%f}",
                f"{self.seconds:.6g}",
                self.camera,
                self.telescope,
                self.observer,
            )
        )


def kind_of(text: str) -> str:
    """``light``, ``other`` (a calibration frame, a stack), or ``unknown`` for another word."""
    word = re.sub(r"[\s_-]|frame", "", text.lower())
    if word in _LIGHTS:
        return "light"
    return "other" if word in _OTHERS or word.startswith(("master", "stack")) else "unknown"


def sub_filter(text: str | None, bayer: bool) -> FilterName:
    """The filter of a sub; no filter is ``none``, or ``RGB`` for a colour camera."""
    if text is None or not text.strip():
        return FilterName("RGB" if bayer else "none", ())
    return filter_name(text)


def night_at(start: dt.datetime, longitude: float) -> dt.date:
    """The date of the local noon before ``start``, by mean solar time."""
    return (start + dt.timedelta(days=longitude / 360, hours=-12)).date()


def nights_by_gap(starts: Iterable[dt.datetime]) -> dict[dt.datetime, dt.date]:
    """Nights where no longitude is known: a new one begins after a gap of six hours, dated by its
    first sub.
    """
    out: dict[dt.datetime, dt.date] = {}
    last: dt.datetime | None = None
    night = dt.date.min
    for start in sorted(set(starts)):
        if last is None or start - last > dt.timedelta(hours=GAP_HOURS):
            night = start.date()
        out[start] = night
        last = start
    return out

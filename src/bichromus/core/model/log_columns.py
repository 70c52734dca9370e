"""Figures of subs and runs that the log keeps beside channel, night and hours: one entry a column.

An entry here is a column of the store, of exports and of pasted tables; it is asked for where a run
is typed and shown where a night is open. Subs bring it where a header keyword tells it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

_NAME: Final = re.compile(r"[a-z][a-z0-9_]*")


@dataclass(frozen=True)
class LogColumn:
    """``id`` names it in the store and in exports, ``title`` heads it in a night, ``question`` asks
    for it with its unit, ``words`` are headings that a pasted table may give it (without spaces).

    ``keywords`` are the header keywords that tell it of a sub, the first that is there; without one
    it can only be typed, and is asked for of runs read from files too where ``noted``. Runs whose
    figures differ are two runs where ``splits_runs``.
    """

    id: str
    title: str
    question: str
    words: tuple[str, ...]
    form: str = "{:g}"
    keywords: tuple[str, ...] = ()
    splits_runs: bool = False
    noted: bool = False
    hint: str = "optional"

    def __post_init__(self) -> None:
        if not _NAME.fullmatch(self.id):
            raise ValueError(f"{self.id!r} cannot name a column")

    def text(self, value: float | None) -> str:
        """A figure as it is shown; a dash where there is none."""
        return self.form.format(value).replace("-", "−") if value is not None else "–"


COLUMNS: Final = (
    LogColumn("gain", "gain", "gain", ("gain",), keywords=("GAIN",), splits_runs=True),
    LogColumn(
        "temperature_c",
        "sensor",
        "sensor, °C",
        ("temperature", "sensor", "temp", "temperaturec"),
        form="{:.0f} °C",
        keywords=("CCD-TEMP", "CCDTEMP"),
        hint="−10",
    ),
    LogColumn(
        "fwhm_arcsec",
        "stars",
        "star size, arcsec",
        ("stars", "starsize", "fwhm"),
        form="{:.1f}″",
    ),
    LogColumn(
        "guiding_arcsec",
        "guiding",
        "guiding error, arcsec",
        ("guiding", "guidingerror", "rms"),
        form="{:.2f}″",
        noted=True,
    ),
)
READ: Final = tuple(c for c in COLUMNS if c.keywords)
"""Columns that a sub's header tells."""
NOTED: Final = tuple(c for c in COLUMNS if c.noted)
"""Columns that are asked for of runs read from files."""
STAR_SIZE: Final = "fwhm_arcsec"
"""The column that measured subs fill by themselves."""

Figures = Mapping[str, float | None]
"""Values by column; None or missing where nothing was told."""

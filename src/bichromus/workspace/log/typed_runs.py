"""Runs that were typed, or pasted from a table."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from typing import Any, Final

from ...core.model.errors import InputError
from ...core.model.log_columns import COLUMNS
from ...core.model.text_file import csv_rows
from ..project.journal import Row
from .sub import run_key
from .table import known_channel

_WORDS: Final = {
    "night": "night date",
    "contributor": "station contributor who observer",
    "object": "object target",
    "telescope": "rig telescope scope",
    "camera": "camera",
    "channel": "channel filter line",
    "seconds": "sub sublength length seconds exposure",
    "kept": "kept subs count n frames number",
    "rejected": "rejected out",
    "hours": "hours h integration",
    "notes": "notes note remarks remark",
}
_BY_WORD: Final = {
    **{word: name for name, words in _WORDS.items() for word in words.split()},
    **{word: c.id for c in COLUMNS for word in c.words},
}
_DATES: Final = ("%Y-%m-%d", "%Y/%m/%d", "%d.%m.%Y", "%d %b %Y", "%d %B %Y")
HINT: Final = ", ".join(
    (
        "night, station, channel, sub, kept (or hours), rejected, rig",
        *(c.words[0] for c in COLUMNS),
        "notes",
    )
)
_MOST_SUBS: Final = 20_000
"""Subs beyond which a run is a slip of the keyboard: more than a night holds."""


def make_run(values: Mapping[str, str]) -> tuple[str, Row]:
    """A run's id and row from what was typed. The same run typed again has the same id. Raises
    InputError.
    """
    text = {k: v.strip() for k, v in values.items()}
    seconds = _number(text, "seconds", "sub length")
    hours = _number(text, "hours", "hours") if text.get("hours") else None
    if seconds is None or seconds <= 0:
        raise InputError(
            "The sub length is missing",
            why=f"received {text.get('seconds') or 'nothing'}",
            do="Give seconds, as in 300",
        )
    kept = (
        _count(text, "kept")
        if text.get("kept") or hours is None
        else round((hours or 0) * 3600 / seconds)
    )
    rejected = _count(text, "rejected")
    if kept + rejected == 0:
        raise InputError("This run has no subs", do="Give how many were kept, or the hours")
    if kept + rejected > _MOST_SUBS:
        raise InputError(
            "This run has too many subs", why=f"{kept + rejected:,}", do="Split it by night"
        )
    row: Row = {
        "night": night_of(text.get("night", "")).isoformat(),
        "object": text.get("object", ""),
        "channel": known_channel(text.get("channel", "")),
        "contributor": text.get("contributor") or "unknown",
        "telescope": text.get("telescope", ""),
        "camera": text.get("camera", ""),
        "seconds": seconds,
        "kept": kept,
        "rejected": rejected,
        "notes": text.get("notes", ""),
    }
    for column in COLUMNS:
        row[column.id] = _number(text, column.id, column.title)
    key = run_key(
        row["night"],
        row["contributor"],
        row["telescope"],
        row["camera"],
        row["channel"],
        seconds,
        [row[c.id] for c in COLUMNS if c.splits_runs],
    )
    return f"typed|{key}", row


def read_table(text: str) -> tuple[dict[str, Row], list[InputError]]:
    """Runs of a pasted table by id, and what could not be taken, row by row.

    Cells are parted by tabs, semicolons, commas or bars; the first row names the columns. Raises
    InputError when it does not.
    """
    rows = _cells(text)
    names = (
        [_BY_WORD.get(re.sub(r"[\s,.()\"″°_-]|arcsec$", "", c.lower())) for c in rows[0]]
        if rows
        else []
    )
    if "night" not in names or "channel" not in names or len(rows) < 2:
        raise InputError(
            "This is not a table of runs",
            why=f"its first row is {text.splitlines()[0][:60]!r}"
            if text.strip()
            else "there is no text",
            do=f"Name the columns in the first row: {HINT}",
        )
    found: dict[str, Row] = {}
    errors: list[InputError] = []
    for number, cells in enumerate(rows[1:], 2):
        values = {n: c for n, c in zip(names, cells, strict=False) if n}
        try:
            run_id, row = make_run(values)
        except InputError as error:
            errors.append(
                InputError(
                    f"Row {number} was left out: {error.what[0].lower()}{error.what[1:]}",
                    why=error.why,
                    do=error.do,
                )
            )
            continue
        known = found.get(run_id)
        if known is not None:  # two rows of one kind in a table are two parts of one run
            row["kept"] += known["kept"]
            row["rejected"] += known["rejected"]
        found[run_id] = row
    return found, errors


def night_of(text: str) -> dt.date:
    """A date as people write it, the day never after the month in slashes. Raises InputError."""
    for form in _DATES:
        try:
            found = dt.datetime.strptime(text.strip(), form).date()
        except ValueError:
            continue
        if 1950 <= found.year <= 2100:
            return found
    raise InputError(
        "The night is not clear",
        why=f"received {text or 'nothing'}",
        do="Write it as 2027-03-02 or 2 Mar 2027",
    )


def _cells(text: str) -> list[list[str]]:
    lines = [line.strip() for line in text.strip("\n").splitlines() if line.strip()]
    if lines and lines[0].startswith("|"):
        return [
            [c.strip() for c in line.strip("|").split("|")]
            for line in lines
            if not re.fullmatch(r"[|:\-\s]+", line)
        ]
    mark = next((m for m in "\t;," if lines and m in lines[0]), ",")
    try:
        return csv_rows(lines, mark)
    except ValueError as error:
        raise InputError(
            "These lines are no table", why=str(error), do="Give one run a line"
        ) from error


def _number(text: Mapping[str, str], name: str, words: str) -> float | None:
    """The number in a cell, with or without its unit; None for an empty one."""
    raw = text.get(name, "")
    if not raw or raw in "-–":
        return None
    found = re.fullmatch(r"([−-]?\d+(?:[.,]\d+)?)\s*(?:s|sec|h|px|″|\"|°c|arcsec)?", raw.lower())
    if found is None:
        raise InputError(
            f"The {words} is not a number", why=f"received {raw}", do="Give a plain number"
        )
    return float(found[1].replace(",", ".").replace("−", "-"))


def _count(text: Mapping[str, str], name: str) -> int:
    value = _number(text, name, f"number of subs {name}")
    if value is not None and (value < 0 or value != int(value)):
        raise InputError(
            f"The number of subs {name} cannot be",
            why=f"received {value:g}",
            do="Give a whole number",
        )
    return int(value or 0)


def as_typed(rows: Sequence[Mapping[str, Any]]) -> str:
    """Rows as a table that can be pasted back."""
    names = (
        "night",
        "contributor",
        "object",
        "telescope",
        "camera",
        "channel",
        "seconds",
        "kept",
        "rejected",
        *(c.id for c in COLUMNS),
        "notes",
    )
    lines = ["\t".join(names)]
    for row in rows:
        lines.append("\t".join("" if row.get(n) is None else str(row[n]) for n in names))
    return "\n".join(lines) + "\n"

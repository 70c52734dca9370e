"""The acquisition summary in a person's own words: text with fields."""

from __future__ import annotations

import string
from collections.abc import Mapping
from typing import Final

from ...core.model.errors import InputError
from .summary import Summary, hours_words, nights_words, sky_words

FIELDS: Final = {
    "target": "what the project is called",
    "hours": "all hours, as in 9 h 20 min",
    "hours_number": "all hours, as a number",
    "nights": "how many nights, and from when to when",
    "nights_number": "how many nights",
    "first": "the first night",
    "last": "the last night",
    "channels": "all channels with their hours, in one line",
    "stations": "stations with their hours, in one line",
    "rigs": "telescopes and cameras",
    "filters": "what the filters are called",
    "sky": "Moon and sky",
}
"""Fields of any line, in braces, and what they hold."""
LINE_FIELDS: Final = {
    "channel": "the channel",
    "subs": "its subs, as in 112 × 300 s",
    "channel_hours": "its hours",
    "channel_nights": "its nights",
    "channel_stations": "who shot it",
}
"""Fields of one channel: a line that has one of them is written for each channel."""
EXAMPLE: Final = """{target}, {hours}

{channel}: {subs} ({channel_hours})

{stations}. {rigs}. {nights}.
"""


def fill(template: str, s: Summary) -> str:
    """A template filled with a summary. Raises InputError for a field that there is not, or a brace
    that is not closed.
    """
    common = _common(s)
    lines = []
    for line in template.splitlines():
        wanted = _fields_of(line)
        unknown = [w for w in wanted if w not in FIELDS and w not in LINE_FIELDS]
        if unknown:
            raise InputError(
                f"The template has a field that there is not: {{{unknown[0]}}}",
                why=f"there are {', '.join([*FIELDS, *LINE_FIELDS])}",
                do="Correct it, or write two braces for one",
            )
        if set(wanted) & set(LINE_FIELDS):
            lines += [_put(line, {**common, **_of_line(s, i)}) for i in range(len(s.channels))]
        else:
            lines.append(_put(line, common))
    return "\n".join(lines) + "\n"


def _fields_of(line: str) -> list[str]:
    try:
        return [name for _, name, _, _ in string.Formatter().parse(line) if name is not None]
    except ValueError as error:
        raise InputError(
            "The template is not clear",
            why=f"a brace stands alone in the line {line.strip()!r}",
            do="Close it, or write two braces for one",
        ) from error


def _put(line: str, values: Mapping[str, str]) -> str:
    """A line with its fields filled; what stands behind a colon in a field is left out."""
    parts = string.Formatter().parse(line)
    return "".join(text + (values[name] if name is not None else "") for text, name, _, _ in parts)


def _common(s: Summary) -> dict[str, str]:
    return {
        "target": s.name,
        "hours": hours_words(s.hours),
        "hours_number": f"{s.hours:.1f}",
        "nights": nights_words(s) if s.nights else "",
        "nights_number": str(s.nights),
        "first": s.first,
        "last": s.last,
        "channels": ", ".join(f"{c.channel} {hours_words(c.hours)}" for c in s.channels),
        "stations": ", ".join(f"{n} {hours_words(h)}" for n, h in s.stations),
        "rigs": "; ".join(s.rigs),
        "filters": ", ".join(s.filters),
        "sky": sky_words(s),
    }


def _of_line(s: Summary, index: int) -> dict[str, str]:
    line = s.channels[index]
    return {
        "channel": line.channel,
        "subs": line.subs_text,
        "channel_hours": hours_words(line.hours),
        "channel_nights": str(line.nights),
        "channel_stations": ", ".join(line.stations),
    }

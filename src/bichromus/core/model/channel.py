"""Names of channels and lines, and how people spell them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from .errors import UnknownName
from .spellings import NAMES, passes

CHANNELS: Final = NAMES
LINES: Final = ("Ha", "O3", "S2", "Hb")
COLOURS: Final = ("R", "G", "B")
WAVELENGTH_NM: Final = {
    "Ha": 656.3,
    "O3": 500.7,
    "S2": 672.4,
    "Hb": 486.1,
    "R": 630.0,
    "G": 530.0,
    "B": 455.0,
    "L": 550.0,
    "C": 550.0,
}
LONG_NAMES: Final = {
    "Ha": "hydrogen-alpha",
    "O3": "oxygen-3",
    "S2": "sulfur-2",
    "Hb": "hydrogen-beta",
    "L": "luminance",
    "R": "red",
    "G": "green",
    "B": "blue",
    "C": "filtered luminance",
}


@dataclass(frozen=True)
class FilterName:
    """A filter's name understood: ``lines`` holds the channels it passes; empty means unknown."""

    text: str
    lines: tuple[str, ...]

    @property
    def known(self) -> bool:
        """Whether the text names a filter."""
        return bool(self.lines)

    @property
    def dual(self) -> bool:
        """Whether it lets two lines through."""
        return len(self.lines) > 1


def channel_name(text: str) -> str:
    """One channel's name from a usual spelling. Raises UnknownName."""
    found = passes(text)
    if len(found) != 1:
        raise UnknownName(f"No channel is called {text!r}", do=f"Use one of {', '.join(CHANNELS)}")
    return found[0]


def filter_name(text: str) -> FilterName:
    """Understand a filter's name by the table of spellings: one channel, or several lines, however
    they are joined. Never raises.
    """
    known = set(passes(text))
    if not known or (len(known) > 1 and not known <= set(LINES)):
        return FilterName(text.strip(), ())
    ordered = tuple(n for n in CHANNELS if n in known)
    return FilterName("+".join(ordered), ordered)


def line_list(text: str) -> tuple[str, ...]:
    """The lines of a colour stack, as in ``Ha+O3``. Raises UnknownName where a part of it is not a
    line: what is asked for is never passed over.
    """
    found = filter_name(text)
    parts = text.replace("/", "+").replace(",", "+").replace("&", "+").split("+")
    if not all(set(passes(p)) and set(passes(p)) <= set(LINES) for p in parts):
        raise UnknownName(
            f"The lines {text!r} are not known", do="Join lines with +, as in Ha+O3 or O3+S2"
        )
    return found.lines


def channel_order(name: str) -> tuple[int, str]:
    """The usual order of channels, dual bands by their first line."""
    first = name.partition("+")[0]
    return (CHANNELS.index(first) if first in CHANNELS else len(CHANNELS), name)

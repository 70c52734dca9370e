"""Names of channels and lines, and how people spell them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Final

from .errors import UnknownName

CHANNELS: Final = ("Ha", "O3", "S2", "Hb", "L", "R", "G", "B", "C")
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

_SPELLINGS: Final = {
    "Ha": "ha halpha hydrogenalpha",
    "O3": "o3 oiii oxygen3 oxygeniii",
    "S2": "s2 sii sulfur2 sulfurii sulphur2 sulphurii",
    "Hb": "hb hbeta hydrogenbeta",
    "L": "l lum luminance",
    "R": "r red",
    "G": "g green",
    "B": "b blue",
    "C": "c lp lightpollution",
}
_BY_SPELLING: Final = {word: name for name, words in _SPELLINGS.items() for word in words.split()}
_WIDTH = re.compile(r"\d+(\.\d+)?\s*nm", re.IGNORECASE)


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
    found = _one(text)
    if found is None:
        raise UnknownName(f"No channel is called {text!r}", do=f"Use one of {', '.join(CHANNELS)}")
    return found


def filter_name(text: str) -> FilterName:
    """Understand a filter's name: one channel, or two lines joined by ``+ / , &``. Never raises."""
    parts = [p for p in re.split(r"[+/,&]", text) if p.strip()]
    names = [_one(p) for p in parts]
    if not names or any(n is None for n in names):
        return FilterName(text.strip(), ())
    known = {n for n in names if n is not None}
    if len(known) > 1 and not known <= set(LINES):
        return FilterName(text.strip(), ())
    ordered = tuple(n for n in CHANNELS if n in known)
    return FilterName("+".join(ordered), ordered)


def line_list(text: str) -> tuple[str, ...]:
    """The lines of a colour stack, as in ``Ha+O3``. Raises UnknownName when one is not a line."""
    found = filter_name(text)
    if not found.known or not set(found.lines) <= set(LINES):
        raise UnknownName(
            f"The lines {text!r} are not known", do="Join lines with +, as in Ha+O3 or O3+S2"
        )
    return found.lines


def _one(text: str) -> str | None:
    key = re.sub(r"[\s\-_()\[\]]", "", _WIDTH.sub("", text)).lower()
    return _BY_SPELLING.get(key)


def channel_order(name: str) -> tuple[int, str]:
    """The usual order of channels, dual bands by their first line."""
    first = name.partition("+")[0]
    return (CHANNELS.index(first) if first in CHANNELS else len(CHANNELS), name)

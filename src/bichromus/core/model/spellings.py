"""How people spell filters: one table that ships, and one that a person extends."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Final

from .errors import InputError, UnreadableFile
from .text_file import csv_rows, read_text
from .visible import quote

Passes = tuple[str, ...]
NAMES: Final = ("Ha", "O3", "S2", "Hb", "L", "R", "G", "B", "C")

_GREEK: Final = str.maketrans({"α": "alpha", "Α": "alpha", "β": "beta", "Β": "beta"})
_WIDTH: Final = re.compile(r"\d+([.,]\d+)?\s*(nm|mm|å|angstrom|in|\")(?![a-z])", re.IGNORECASE)
_SIGNS: Final = re.compile(r"[+/,&;|\s\-_()\[\]{}.:'\"#]+")
_SURE_FROM: Final = 2  # letters of a word that is not taken by chance
_own: dict[str, Passes] = {}


def plain(text: str) -> str:
    """A spelling as the table writes it: small letters, no signs, no widths."""
    return _SIGNS.sub("", _WIDTH.sub(" ", text.translate(_GREEK))).lower()


@cache
def _shipped() -> dict[str, Passes]:
    text = resources.files(__package__).joinpath("spellings.csv").read_text("utf-8")
    return _parse(text.splitlines(), None)


def use_own(table: Mapping[str, Passes]) -> None:
    """Put a person's own spellings before those that ship."""
    _own.clear()
    _own.update({plain(word): tuple(names) for word, names in table.items()})


def read_own(path: Path) -> dict[str, Passes]:
    """A person's own table; empty where there is none. Raises InputError, UnreadableFile."""
    try:
        text = read_text(path)
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise _unreadable(error, path) from error
    return _parse(text.splitlines(), path)


def _unreadable(error: Exception, path: Path | None) -> UnreadableFile:
    return UnreadableFile(
        "The table of filter names cannot be read",
        why=str(error),
        do="Correct it, or take it away",
        file=path,
    )


def as_table(table: Mapping[str, Passes]) -> str:
    """A table as it is written."""
    rows = [f"{plain(word)},{'+'.join(names)}" for word, names in sorted(table.items())]
    return "\n".join(["spelling,passes", *rows, ""])


def _parse(lines: Iterable[str], path: Path | None) -> dict[str, Passes]:
    out: dict[str, Passes] = {}
    try:
        rows = csv_rows(line for line in lines if line.strip() and not line.startswith("#"))
    except ValueError as error:
        raise _unreadable(error, path) from error
    for number, row in enumerate(rows):
        if number == 0 and row[:1] == ["spelling"]:
            continue
        names = tuple(n for n in row[1].strip().split("+") if n) if len(row) == 2 else ("?",)
        if not row[0].strip() or not set(names) <= set(NAMES):
            raise InputError(
                "A line of the table of filter names is not understood",
                why=quote(",".join(row)),
                do=f"Write a spelling, a comma, and what it passes, of {' '.join(NAMES)}",
                file=path,
            )
        out[plain(row[0])] = names
    return out


def _known(word: str) -> Passes | None:
    return _own.get(word, _shipped().get(word))


def _glued(word: str) -> Passes | None:
    """Names written without anything between them, as in haoiii."""
    if not word:
        return ()
    for length in range(min(len(word), 16), _SURE_FROM - 1, -1):
        head = _known(word[:length])
        if head:
            rest = _glued(word[length:])
            if rest is not None:
                return (*head, *rest)
    return None


def passes(text: str) -> Passes:
    """What a filter passes by its name, in no order; empty where that is not told. Words that are
    not known do no harm beside a name of two letters or more; beside a single letter they do.
    """
    whole = plain(text)
    found = _known(whole) or _glued(whole)
    if found:
        return found
    names: list[str] = []
    strange = single = False
    for word in _SIGNS.split(_WIDTH.sub(" ", text.translate(_GREEK)).lower()):
        if not word or word.isdigit():
            continue
        known = _known(word)
        if known is None and (glued := _glued(word)):
            known = glued
        if known is None:
            strange = True
            continue
        single = single or (bool(known) and len(word) < _SURE_FROM)
        names += known
    return () if strange and single else tuple(names)

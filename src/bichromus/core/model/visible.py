"""Text from files and names, made fit to be shown: what a terminal or a label would act on is shown
as a sign instead.
"""

from __future__ import annotations

from typing import Final

_PICTURES: Final = 0x2400
"""Unicode's block of signs for the first 32 control characters (ESC is U+241B)."""
_DELETE: Final = 0x7F
_BYTES: Final = range(0xDC80, 0xDD00)
"""Bytes of a file name that are not UTF-8, as Python keeps them."""
_TURNING: Final = frozenset(
    "\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069"
)
"""Characters that turn the direction of the text behind them: a name can hide its ending by one."""
_BREAKS: Final = frozenset("\u2028\u2029\ufeff")


def visible(text: str, lines: bool = False) -> str:
    """``text`` with a sign for each character that would be acted on: control characters, escapes,
    line breaks (kept with ``lines``), characters that turn the direction of writing, and bytes of a
    name that are no UTF-8.
    """
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or (lines and c == "\n") else _sign(c) for c in text)


def _sign(char: str) -> str:
    code = ord(char)
    if code < 0x20:
        return chr(_PICTURES + code)
    if code == _DELETE:
        return "\u2421"
    if code in _BYTES:
        return f"\\x{code - 0xDC00:02x}"
    if 0x80 <= code < 0xA0 or 0xD800 <= code < 0xE000 or char in _TURNING or char in _BREAKS:
        return f"\\u{code:04x}"
    return char  # a space of another width, a joiner of a script: harmless


def is_utf8(text: str) -> bool:
    """Whether a name can be written in UTF-8, as projects and tables need it."""
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


_QUOTED: Final = 60
"""Letters of a quoted text: enough to find it by."""


def quote(text: str) -> str:
    """A piece of a foreign text in a sentence: in quotes, its signs visible, and cut where it is
    long.
    """
    return repr(cut(text, _QUOTED))


def cut(text: str, most: int = 160) -> str:
    """The first line of a foreign text, its signs visible, cut where it is long."""
    first = text[: 4 * most].partition("\n")[0]
    shown = visible(first)
    return shown if len(shown) <= most else f"{shown[:most]}…"

"""Names of files from what people and headers say: the only place where such a name is made."""

from __future__ import annotations

import unicodedata
from typing import Final

_FORBIDDEN: Final = '/\\:*?"<>|'
_LONGEST_BYTES: Final = 160
"""Of the 255 that file systems allow: an ending and a number come behind."""


def safe_name(text: str, otherwise: str = "picture") -> str:
    """Text as the name of a file, without its ending: nothing in it leads to another folder, hides
    the file or is refused by a disk.
    """
    plain = "".join(" " if c.isspace() else c for c in unicodedata.normalize("NFC", text))
    kept = "".join(
        "-" if c in _FORBIDDEN else c
        for c in plain
        if unicodedata.category(c) not in ("Cc", "Cf", "Cs")
    )
    name = " ".join(kept.split()).strip(". ")
    while len(name.encode("utf-8", "ignore")) > _LONGEST_BYTES:
        name = name[:-1].rstrip(". ")
    return name or otherwise

"""The things known once, in and out as JSON."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Final

from pydantic import ValidationError

from ...core.files.atomic import write_text
from ...core.model.errors import InputError
from ...core.model.json_text import parse_json
from ...core.model.text_file import read_text
from .old import banded
from .things import KINDS, Things

FORMAT: Final = "bichromus-things"
VERSION: Final = 2


def things_text(things: Things) -> str:
    """Sites, rigs, filters and targets as JSON."""
    dumped = things.model_dump()
    kept = {k: dumped[k] for k in KINDS}
    return json.dumps({"format": FORMAT, "version": VERSION, **kept}, indent=2) + "\n"


def save_things(things: Things, path: Path, overwrite: bool = False) -> None:
    """Things as a file. Raises OutputRefused, WriteFailed."""
    write_text(path, things_text(things), overwrite)


def read_things(path: Path) -> Things:
    """The things of a file. Raises InputError."""
    try:
        return parse_things(read_text(path))
    except (OSError, UnicodeDecodeError, ValueError) as error:
        why = getattr(error, "strerror", None) or (
            f"{'.'.join(map(str, error.errors()[0]['loc']))}: {error.errors()[0]['msg']}"
            if isinstance(error, ValidationError)
            else str(error).splitlines()[0]
        )
        raise InputError(
            "These things cannot be taken in",
            why=why,
            do="Give a file that this program exported",
            file=path,
        ) from error


def parse_things(text: str) -> Things:
    """The things of a text, of this version or an older one. Raises ValueError."""
    raw: Any = parse_json(text)
    if not isinstance(raw, dict) or raw.get("format") != FORMAT:
        raise ValueError("it is not a file of things")
    version = raw.get("version", 1)
    if not isinstance(version, int) or version > VERSION:
        raise ValueError("a newer version of the program wrote it")
    kept = {k: raw.get(k, ()) for k in KINDS}
    if version < 2 and isinstance(kept["filters"], list):
        kept["filters"] = banded(kept["filters"])
    return Things.model_validate(kept)

"""Templates of the person's own for the acquisition summary: text files in the person's folder."""

from __future__ import annotations

from pathlib import Path
from typing import Final

import platformdirs

from ...core.files.atomic import write_text
from ...core.files.names import safe_name
from ...core.model.text_file import read_text

_SUFFIX: Final = ".txt"
_LARGEST: Final = 100_000  # bytes; a longer file is no template


def folder() -> Path:
    """Where they lie."""
    return Path(platformdirs.user_config_dir("bichromus")) / "templates"


def templates() -> dict[str, str]:
    """All of them, text by name; what cannot be read is left out."""
    found = {}
    try:
        paths = sorted(folder().glob(f"*{_SUFFIX}"))
    except OSError:
        return {}
    for path in paths:
        try:
            if path.is_file() and path.stat().st_size <= _LARGEST:
                found[path.stem] = read_text(path)
        except (OSError, UnicodeDecodeError):
            continue
    return found


def keep_template(name: str, text: str) -> str:
    """Keep a template under a name, over one of the same; the name that it has. Raises
    WriteFailed.
    """
    place = folder()
    name = safe_name(name, "template")
    place.mkdir(parents=True, exist_ok=True)
    write_text(place / f"{name}{_SUFFIX}", text, overwrite=True)
    return name


def drop_template(name: str) -> None:
    """Delete a template; what is not there is no fault."""
    (folder() / f"{safe_name(name, 'template')}{_SUFFIX}").unlink(missing_ok=True)

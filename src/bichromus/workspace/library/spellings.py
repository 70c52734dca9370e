"""A person's own names of filters: told once, understood ever after."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import platformdirs

from ...core.files.atomic import write_text
from ...core.model.channel import COLOURS
from ...core.model.errors import WriteFailed
from ...core.model.spellings import as_table, read_own, use_own


def own_file() -> Path:
    """Where the table lies; it may be edited by hand."""
    return Path(platformdirs.user_config_dir("bichromus")) / "filters.csv"


def use_person_table() -> None:
    """Understand the names in the person's table. Raises InputError where it is damaged."""
    use_own(read_own(own_file()))


def learn_filter(text: str, lines: tuple[str, ...]) -> None:
    """Remember what a filter of this name passes. A table that is damaged is left as it is; a disk
    that refuses costs only the comfort. Raises InputError.
    """
    if not text.strip():
        return
    path = own_file()
    table = read_own(path)
    table[text] = ("L",) if lines == COLOURS else lines
    use_own(table)
    with suppress(OSError, WriteFailed):
        path.parent.mkdir(parents=True, exist_ok=True)
        write_text(path, as_table(table), overwrite=True)

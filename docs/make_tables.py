"""Writes docs/tables.md from the registries: mappings, formats in and out, log columns, steps."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from bichromus.app.steps import find_steps
from bichromus.core.blend.mappings import MAPPINGS
from bichromus.core.files.readers import READERS
from bichromus.core.files.writers import FORMATS
from bichromus.core.model.log_columns import COLUMNS
from bichromus.workspace.channels.cleaning import STEPS

TABLES = Path(__file__).with_name("tables.md")


def table(heads: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """A table in Markdown."""
    lines = [heads, ["---"] * len(heads), *rows]
    return "\n".join(f"| {' | '.join(line)} |" for line in lines)


def tables() -> str:
    """All tables, as they stand in the file."""
    parts = [
        "# What there is",
        "Made from the registries by `docs/make_tables.py`; change those, not this page.",
        "## Mappings",
        table(
            ("id", "title", "needs", "what goes where"),
            ((f"`{m.id}`", m.title, ", ".join(m.needs), m.words) for m in MAPPINGS.values()),
        ),
        "## Pictures that are read",
        table(
            ("format", "endings"),
            ((r.title, " ".join(f"`{s}`" for s in r.suffixes)) for r in READERS.values()),
        ),
        "## Pictures that are written",
        table(
            ("id", "format", "endings"),
            (
                (f"`{f.id}`", f.words, " ".join(f"`{s}`" for s in f.suffixes))
                for f in FORMATS.values()
            ),
        ),
        "## Columns of the log",
        table(
            ("column", "heading", "asked as", "header keywords"),
            (
                (
                    f"`{c.id}`",
                    c.title,
                    c.question,
                    " ".join(f"`{k}`" for k in c.keywords) or "typed",
                )
                for c in COLUMNS
            ),
        ),
        "## Cleaning steps of a channel",
        table(("id", "title", "what it does"), ((f"`{s.id}`", s.title, s.tip) for s in STEPS)),
        "## Steps of the window",
        table(
            ("key", "step", "what it is for"),
            ((str(n), s.title, s.tip) for n, s in enumerate(find_steps(), 1)),
        ),
    ]
    return "\n\n".join(parts) + "\n"


if __name__ == "__main__":
    TABLES.write_text(tables(), "utf-8")

"""What a person says of a finished picture, written into its file."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Imprint:
    """Title, description, who made it, and its rights; empty is not written."""

    title: str = ""
    description: str = ""
    authors: tuple[str, ...] = ()
    rights: str = ""

    @property
    def author_line(self) -> str:
        """All authors in one line, in the form of the field for one."""
        return "; ".join(self.authors)

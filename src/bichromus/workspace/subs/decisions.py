"""What is decided of subs: keep or reject, with the reason; and the files that it concerns."""

from __future__ import annotations

from pathlib import Path

from .groups import (
    Group,
)

Marks = dict[str, tuple[str | None, str]]
"""Keep, reject or nothing by the identity of a sub, each with its reason."""


def suggested_marks(group: Group) -> Marks:
    """Reject what is suggested, keep what still helps."""
    out: Marks = {}
    for r in group.subs:
        if r.waiting and r.suggested_out:
            out[r.sub.identity] = ("reject", r.reason)
        elif r.waiting:
            out[r.sub.identity] = ("keep", f"low weight: {r.reason}")
    return out


def kept_list(group: Group) -> str:
    """The files of the kept subs, one a line; a name with a line break in it cannot stand there."""
    files = [r.sub.file for r in group.subs if r.sub.kept and "\n" not in r.sub.file]
    return "\n".join(files) + "\n"


def rejected_files(group: Group) -> list[Path]:
    """The files of the rejected subs."""
    return [Path(r.sub.file) for r in group.subs if not r.sub.kept]

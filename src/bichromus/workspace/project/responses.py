"""Response tables of the person's own, kept with the project so that it can be opened anywhere."""

from __future__ import annotations

import re
from pathlib import Path

from ...core.extract import Response, load_response
from ...core.files.atomic import write_failed
from ...core.model.channel import LINES
from .store import Store

_FOLDER = "responses"


def find_response(store: Store, name: str) -> str:
    """Where a response of this name lies: generic, one that is kept, or a file."""
    kept = store.folder / _FOLDER / f"{name}.csv"
    return str(kept) if "/" not in name and kept.exists() else name


def keep_response(store: Store, response: Response) -> str:
    """Keep a response with the project; the name that it has there. Raises WriteFailed."""
    folder = store.folder / _FOLDER
    base = re.sub(r"[^\w ,.-]", "", response.name).strip() or "response"
    lines = [n for n in LINES if n in response.table["R"]]
    rows = [[p, *(f"{response.table[p][n]:.6g}" for n in lines)] for p in "RGB"]
    text = "\n".join(",".join(row) for row in (["plane", *lines], *rows)) + "\n"
    name, number = base, 2
    try:
        folder.mkdir(exist_ok=True)
        while name == "generic" or (
            (path := folder / f"{name}.csv").exists() and path.read_text("utf-8") != text
        ):
            name, number = f"{base} {number}", number + 1
        (folder / f"{name}.csv").write_text(text, "utf-8")
    except OSError as error:
        raise write_failed(error, folder) from error
    return name


def take_response(store: Store, path: Path) -> str:
    """Check a table and keep it. Raises ResponseError, WriteFailed."""
    return keep_response(store, load_response(path))

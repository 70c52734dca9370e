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
    if "/" not in name and store.door.exists(_FOLDER, f"{name}.csv"):
        return str(store.door.path(_FOLDER, f"{name}.csv"))
    return name


def keep_response(store: Store, response: Response) -> str:
    """Keep a response with the project; the name that it has there. Raises WriteFailed."""
    base = re.sub(r"[^\w ,.-]", "", response.name).strip() or "response"
    lines = [n for n in LINES if n in response.table["R"]]
    rows = [[p, *(f"{response.table[p][n]:.6g}" for n in lines)] for p in "RGB"]
    text = "\n".join(",".join(row) for row in (["plane", *lines], *rows)) + "\n"
    name, number = base, 2
    try:
        while name == "generic" or _is_other(store, name, text):
            name, number = f"{base} {number}", number + 1
        with store.door.writing(_FOLDER, f"{name}.csv") as partial:
            partial.write_text(text, "utf-8")
    except OSError as error:
        raise write_failed(error, store.door.path(_FOLDER)) from error
    return name


def _is_other(store: Store, name: str, text: str) -> bool:
    """Whether another table lies there under this name."""
    if not store.door.exists(_FOLDER, f"{name}.csv"):
        return False
    try:
        return store.door.read(_FOLDER, f"{name}.csv") != text.encode()
    except OSError:
        return True


def take_response(store: Store, path: Path) -> str:
    """Check a table and keep it. Raises ResponseError, WriteFailed."""
    return keep_response(store, load_response(path))

"""Reading what a project knows for planning, without opening it for writing."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

from pydantic import ValidationError

from ...core.model.errors import ProjectError
from .door import require_plain
from .faults import damaged, store_fault
from .state import ProjectState


def read_state(folder: Path) -> ProjectState:
    """The current state of a project, also while a window has it open. Raises ProjectError."""
    path = folder / "project.db"
    if not path.is_file():
        raise ProjectError(
            "This is not a project",
            why="there is no project in it",
            do="Give a project folder",
            file=folder,
        )
    require_plain(folder)
    try:
        try:
            text = _state_text(path, "")
        except sqlite3.OperationalError:  # its disk is read-only or full: nothing fits beside it
            text = _state_text(path, "&immutable=1")
        return ProjectState.model_validate_json(text)
    except sqlite3.Error as error:
        raise store_fault(error, path) from error
    except (ValidationError, TypeError, ValueError) as error:
        raise damaged("its current state cannot be read", path) from error


def _state_text(path: Path, more: str) -> str:
    """Raises sqlite3.Error, and TypeError where there is no state."""
    where = f"{path.absolute().as_uri()}?mode=ro{more}"
    with contextlib.closing(sqlite3.connect(where, uri=True)) as db:
        row = db.execute(
            "SELECT state FROM history JOIN meta ON key='cursor' AND seq = value"
        ).fetchone()
    text: str = row[0]
    return text

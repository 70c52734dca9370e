"""Reading what a project knows for planning, without opening it for writing."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

from pydantic import ValidationError

from ...core.model.errors import ProjectError
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
    try:
        with contextlib.closing(
            sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)
        ) as db:
            row = db.execute(
                "SELECT state FROM history JOIN meta ON key='cursor' AND seq = value"
            ).fetchone()
            return ProjectState.model_validate_json(row[0])
    except (sqlite3.Error, ValidationError, TypeError) as error:
        raise ProjectError(
            "The project cannot be read",
            why=str(error).splitlines()[0],
            do="Open it in the window, or restore it from a backup",
            file=folder,
        ) from error

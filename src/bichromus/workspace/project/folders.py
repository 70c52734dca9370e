"""Where things are kept: XDG folders, new projects, rehearsals."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import available_timezones

import platformdirs

from ...core.model.errors import WriteFailed
from .store import SUFFIX


def data_folder() -> Path:
    """Made on first use. Raises WriteFailed."""
    folder = Path(platformdirs.user_data_dir("bichromus"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteFailed(
            "The data folder cannot be made",
            why=error.strerror or str(error),
            do="Set XDG_DATA_HOME to a folder that you may write to",
            file=folder,
        ) from error
    return folder


def new_project() -> Path:
    """A free folder for a new project, away from the person's data."""
    folder = data_folder() / "projects"
    folder.mkdir(exist_ok=True)
    number = 1
    while (folder / f"Project {number}{SUFFIX}").exists():
        number += 1
    return folder / f"Project {number}{SUFFIX}"


def rehearsal_folder(project: Path) -> Path:
    """Where the simulated camera of a project writes."""
    return data_folder() / "rehearsals" / project.stem


def local_zone() -> str:
    """The time zone of this machine by its name; UTC where it has none."""
    link = Path("/etc/localtime")
    name = str(link.resolve()).partition("zoneinfo/")[2] if link.exists() else ""
    return name if name in available_timezones() else "UTC"

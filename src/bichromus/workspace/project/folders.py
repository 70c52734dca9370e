"""Where things are kept: XDG folders, recent projects, settings of the window, the demo."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import Any, Final
from zoneinfo import available_timezones

import platformdirs

from ...core.model.errors import WriteFailed
from ...core.model.progress import SILENT, Progress
from ...core.simulate.demo import STACKS, TARGET_NAME, write_demo
from ..demo.log import SUBS, shoot_last_night
from .store import SUFFIX

_DEMO_VERSION: Final = 3
_RECENT: Final = 8


def data_folder() -> Path:
    """Made on first use."""
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


def demo_ready() -> bool:
    """Whether the demo's stacks and subs are there, whole."""
    folder = data_folder() / "demo"
    return (
        (folder / f"ready-{_DEMO_VERSION}").exists()
        and all((folder / "stacks" / s.file).exists() for s in STACKS)
        and sum(1 for _ in (folder / "subs").rglob("*.fits")) >= SUBS
    )


def make_demo(progress: Progress = SILENT) -> tuple[list[Path], Path]:
    """The demo's stacks and the folder of its subs, simulated on first use."""
    folder = data_folder() / "demo"
    stacks, subs = folder / "stacks", folder / "subs"
    if demo_ready():
        return [stacks / s.file for s in STACKS], subs
    for old in (stacks, subs):
        shutil.rmtree(old, ignore_errors=True)
    folder.mkdir(exist_ok=True)
    stacks.mkdir()
    paths = write_demo(stacks, progress=progress.part(0, 0.6))
    shoot_last_night(subs, progress=progress.part(0.6, 1))
    (folder / f"ready-{_DEMO_VERSION}").write_text("", "utf-8")
    return paths, subs


def demo_project() -> Path:
    """Where the demo project lies, or will."""
    folder = data_folder() / "demo"
    folder.mkdir(exist_ok=True)
    return folder / f"{TARGET_NAME}{SUFFIX}"


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


class Settings:
    """Settings of the person, not of a project: theme, window, recent projects. Kept as JSON."""

    def __init__(self) -> None:
        self._path = Path(platformdirs.user_config_dir("bichromus")) / "settings.json"
        try:
            found = json.loads(self._path.read_text("utf-8"))
            self._values: dict[str, Any] = found if isinstance(found, dict) else {}
        except (OSError, ValueError):
            self._values = {}

    def get(self, key: str, default: Any = None) -> Any:
        return self._values.get(key, default)

    def set(self, key: str, value: Any) -> None:
        """Keep a value; a disk that refuses costs only the comfort."""
        self._values[key] = value
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            partial = self._path.with_suffix(f".{os.getpid()}.partial")
            partial.write_text(json.dumps(self._values, indent=1), "utf-8")
            os.replace(partial, self._path)
        except OSError:
            pass

    def recent(self) -> list[Path]:
        """Recent projects that still exist, newest first."""
        return [p for p in map(Path, self.get("recent", [])) if p.is_dir()]

    def add_recent(self, folder: Path) -> None:
        rest = [str(p) for p in self.recent() if p != folder]
        self.set("recent", [str(folder), *rest][:_RECENT])

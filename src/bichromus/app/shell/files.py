"""Files that come into the window: chosen, or dropped on it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QMimeData
from PyQt6.QtWidgets import QFileDialog, QWidget

from ...core.files import picture_patterns, picture_suffixes
from ...workspace.library.settings import Settings
from ...workspace.project.store import SUFFIX


def choose_pictures(parent: QWidget, settings: Settings) -> list[Path]:
    """Stacks that the person chooses; the folder is remembered."""
    start = str(settings.get("folder", str(Path.home())))
    kinds = f"Stacks ({picture_patterns()});;All files (*)"
    paths, _ = QFileDialog.getOpenFileNames(parent, "Open stacks", start, kinds)
    if paths:
        settings.set("folder", str(Path(paths[0]).parent))
    return [Path(p) for p in paths]


def choose_project(parent: QWidget) -> Path | None:
    """A project folder that the person chooses."""
    found = QFileDialog.getExistingDirectory(parent, "Open a project folder", str(Path.home()))
    return Path(found) if found else None


def dropped_paths(data: QMimeData | None) -> list[Path]:
    """Local files and folders that were dropped."""
    if data is None:
        return []
    return [Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()]


def project_in(paths: Sequence[Path]) -> Path | None:
    """The first project folder among paths."""
    return next((p for p in paths if p.suffix == SUFFIX and p.is_dir()), None)


def pictures_in(paths: Sequence[Path]) -> list[Path]:
    """Files as they are; of a folder the pictures in it."""
    endings = picture_suffixes()
    out: list[Path] = []
    for path in paths:
        if path.is_dir():
            out += sorted(c for c in path.iterdir() if c.name.lower().endswith(endings))
        else:
            out.append(path)
    return out

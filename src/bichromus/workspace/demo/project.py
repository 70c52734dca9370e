"""The demo project: its stacks simulated on first use, then opened like any others."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Final

from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.simulate.demo import STACKS, TARGET_NAME
from ...core.simulate.demo_files import write_demo
from ..channels.commands import with_sources
from ..channels.sources import inspect
from ..log.controller import put_runs
from ..log.intake import take_in
from ..log.table import LogTable
from ..project.context import ProjectContext
from ..project.document import Document
from ..project.folders import data_folder
from ..project.state import ProjectState
from ..project.store import SUFFIX
from .log import SUBS, demo_runs, shoot_last_night
from .plan import demo_plan

_DEMO_VERSION: Final = 3
"""Of the simulated files: a new one makes them anew."""


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


def open_demo(document: Document, progress: Progress = SILENT) -> list[InputError]:
    """Add the demo's stacks to the project in one command; what could not be used comes back."""
    paths, subs = make_demo(progress.part(0, 0.8))
    found, errors = inspect(document.store, paths, document.state.sources, progress.part(0.8, 0.95))
    progress.step(0.95)
    if found:

        def change(state: ProjectState) -> ProjectState:
            named = state.model_copy(update={"name": TARGET_NAME, "plan": demo_plan()})
            return with_sources(named, found)

        document.update("open the demo", change)
        log_demo(document, subs, progress.part(0.95, 1))
    return errors


def log_demo(document: Document, subs: Path, progress: Progress = SILENT) -> None:
    """The demo's log: what was typed, and the subs of the last night."""
    log = LogTable(document)
    log.edit("the demo's log", put_runs(demo_runs()))
    take_in(log, subs, progress=progress)


def prepare_demo(progress: Progress = SILENT) -> Path:
    """Make the demo project without a window; its folder."""
    folder = demo_project()
    make_demo(progress.part(0, 0.8))
    document = Document(folder, TARGET_NAME)
    try:
        if not document.state.sources:
            open_demo(document, progress.part(0.8, 1))
    finally:
        document.close()
    return folder


def start_demo(context: ProjectContext) -> None:
    """Open the demo in a job, and say what could not be used."""

    def work(progress: Progress) -> None:
        errors = open_demo(context.document, progress)
        if errors:
            context.report(errors)

    context.jobs.submit("making the demo", work)

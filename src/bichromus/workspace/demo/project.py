"""The demo project: its stacks simulated on first use, then opened like any others."""

from __future__ import annotations

from pathlib import Path

from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.simulate.demo import TARGET_NAME
from ..channels.sources import inspect
from ..log.table import Log
from ..project.document import Document
from ..project.folders import demo_project, make_demo
from .log import demo_runs
from .plan import demo_plan


def open_demo(document: Document, progress: Progress = SILENT) -> list[InputError]:
    """Add the demo's stacks to the project in one command; what could not be used comes back."""
    paths, subs = make_demo(progress.part(0, 0.8))
    found, errors = inspect(document.store, paths, document.state.sources, progress.part(0.8, 0.95))
    progress.step(0.95)
    if found:
        sources = (*document.state.sources, *found)
        state = document.state.model_copy(
            update={"sources": sources, "name": TARGET_NAME, "plan": demo_plan()}
        )
        document.do("open the demo", state)
        log_demo(document, subs, progress.part(0.95, 1))
    return errors


def log_demo(document: Document, subs: Path, progress: Progress = SILENT) -> None:
    """The demo's log: what was typed, and the subs of the last night."""
    log = Log(document)
    log.edit("the demo's log", lambda e: [e.put("runs", i, row) for i, row in demo_runs().items()])
    log.intake(subs, progress=progress)


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

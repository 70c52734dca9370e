"""The demo projects: their stacks simulated on first use, then opened like any others."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Final

from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.simulate.demo import DEMOS, NEBULA, Demo
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
from ..work.together import side_by_side
from .log import SUBS, demo_runs, shoot_last_night
from .plan import demo_plan

_BYTES: Final = 1e9  # that simulating the stacks takes, about
_DEMO_VERSION: Final = 4
"""Of the simulated files: a new one makes them anew."""


def demo_named(name: str) -> Demo:
    """A demo by its id. Raises InputError."""
    if name not in DEMOS:
        raise InputError(f"No demo is called {name!r}", do=f"Choose one of {', '.join(DEMOS)}")
    return DEMOS[name]


def _folder(demo: Demo) -> Path:
    """Where a demo lies; the first one where it always did."""
    whole = data_folder() / "demo"
    return whole if demo is NEBULA else whole / demo.id


def demo_ready(demo: Demo = NEBULA) -> bool:
    """Whether a demo's stacks and subs are there, whole."""
    folder = _folder(demo)
    return (
        (folder / f"ready-{_DEMO_VERSION}").exists()
        and all((folder / "stacks" / s.file).exists() for s in demo.stacks)
        and (not _has_subs(demo) or sum(1 for _ in (folder / "subs").rglob("*.fits")) >= SUBS)
    )


def _has_subs(demo: Demo) -> bool:
    """The first demo has a night whose subs wait to be looked at."""
    return demo is NEBULA


def make_demo(progress: Progress = SILENT, demo: Demo = NEBULA) -> tuple[list[Path], Path | None]:
    """A demo's stacks, and the folder of its subs where it has any, simulated on first use."""
    folder = _folder(demo)
    stacks, subs = folder / "stacks", folder / "subs" if _has_subs(demo) else None
    if demo_ready(demo):
        return [stacks / s.file for s in demo.stacks], subs
    for old in (stacks, folder / "subs"):
        shutil.rmtree(old, ignore_errors=True)
    stacks.mkdir(parents=True)

    def expose(part: Progress) -> list[Path]:
        return write_demo(stacks, progress=part, demo=demo)

    def shoot(part: Progress) -> list[Path]:
        return [] if subs is None else shoot_last_night(subs, progress=part)

    paths, _ = side_by_side((expose, shoot), progress, (_BYTES, 0), (2, 1 if subs else 0))
    (folder / f"ready-{_DEMO_VERSION}").write_text("", "utf-8")
    return paths, subs


def demo_project(demo: Demo = NEBULA) -> Path:
    """Where a demo project lies, or will."""
    folder = _folder(demo)
    folder.mkdir(exist_ok=True, parents=True)
    return folder / f"{demo.name}{SUFFIX}"


def open_demo(
    document: Document, progress: Progress = SILENT, demo: Demo = NEBULA
) -> list[InputError]:
    """Add a demo's stacks to the project in one command; what could not be used comes back."""
    paths, subs = make_demo(progress.part(0, 0.8), demo)
    found, errors = inspect(document.store, paths, document.state.sources, progress.part(0.8, 0.95))
    progress.step(0.95)
    if found:

        def change(state: ProjectState) -> ProjectState:
            named = state.model_copy(update={"name": demo.name, "plan": demo_plan(demo)})
            if demo is not NEBULA:
                named = named.blended_with(
                    mapping="ha-rgb", luminance={"source": "L"}, white={"field_hue": True}
                )
            return with_sources(named, found)

        document.update("open the demo", change)
        log_demo(document, subs, progress.part(0.95, 1), demo)
    return errors


def log_demo(
    document: Document, subs: Path | None, progress: Progress = SILENT, demo: Demo = NEBULA
) -> None:
    """A demo's log: what was typed, and the subs of the last night."""
    log = LogTable(document)
    log.edit("the demo's log", put_runs(demo_runs(demo)))
    if subs is not None:
        take_in(log, subs, progress=progress)


def prepare_demo(progress: Progress = SILENT, demo: Demo = NEBULA) -> Path:
    """Make a demo project without a window; its folder."""
    folder = demo_project(demo)
    make_demo(progress.part(0, 0.8), demo)
    document = Document(folder, demo.name)
    try:
        if not document.state.sources:
            open_demo(document, progress.part(0.8, 1), demo)
    finally:
        document.close()
    return folder


def start_demo(context: ProjectContext, demo: Demo = NEBULA) -> None:
    """Open a demo in a job, and say what could not be used."""

    def work(progress: Progress) -> None:
        errors = open_demo(context.document, progress, demo)
        if errors:
            context.report(errors)

    context.jobs.submit("making the demo", work)

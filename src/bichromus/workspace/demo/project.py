"""The demo projects: their stacks simulated on first use, then opened like any others."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any, Final

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
_DEMO_VERSION: Final = 6
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
    """Whether a demo's stacks are there, whole."""
    folder = _folder(demo)
    return (folder / f"ready-{_DEMO_VERSION}").exists() and all(
        (folder / "stacks" / s.file).exists() for s in demo.stacks
    )


def _subs_ready(folder: Path) -> bool:
    marked = (folder / f"subs-{_DEMO_VERSION}").exists()
    return marked and sum(1 for _ in (folder / "subs").rglob("*.fits")) >= SUBS


def _has_subs(demo: Demo) -> bool:
    """The first demo has a night whose subs wait to be looked at."""
    return demo is NEBULA


def make_stacks(progress: Progress = SILENT, demo: Demo = NEBULA) -> list[Path]:
    """A demo's stacks, simulated on first use."""
    folder = _folder(demo)
    stacks = folder / "stacks"
    if not demo_ready(demo):
        shutil.rmtree(stacks, ignore_errors=True)
        stacks.mkdir(parents=True)
        write_demo(stacks, progress=progress, demo=demo)
        (folder / f"ready-{_DEMO_VERSION}").write_text("", "utf-8")
    return [stacks / s.file for s in demo.stacks]


def make_subs(progress: Progress = SILENT, demo: Demo = NEBULA) -> Path | None:
    """The folder of a demo's subs, simulated on first use; None where it has none."""
    if not _has_subs(demo):
        return None
    folder = _folder(demo)
    if not _subs_ready(folder):
        shutil.rmtree(folder / "subs", ignore_errors=True)
        shoot_last_night(folder / "subs", progress=progress)
        (folder / f"subs-{_DEMO_VERSION}").write_text("", "utf-8")
    return folder / "subs"


def make_demo(progress: Progress = SILENT, demo: Demo = NEBULA) -> tuple[list[Path], Path | None]:
    """A demo's stacks, and the folder of its subs where it has any, side by side."""
    _folder(demo).mkdir(parents=True, exist_ok=True)
    found: dict[str, Path | None] = {}

    def subs(part: Progress) -> list[Path]:
        found["subs"] = make_subs(part, demo)
        return []

    pieces = (lambda part: make_stacks(part, demo)), subs
    paths, _ = side_by_side(pieces, progress, (_BYTES, 0), (2, 1 if _has_subs(demo) else 0))
    return paths, found["subs"]


def demo_project(demo: Demo = NEBULA) -> Path:
    """Where a demo project lies, or will."""
    folder = _folder(demo)
    folder.mkdir(exist_ok=True, parents=True)
    return folder / f"{demo.name}{SUFFIX}"


def open_demo(
    document: Document, progress: Progress = SILENT, demo: Demo = NEBULA
) -> list[InputError]:
    """Add a demo's stacks to the project in one command, and what was typed of its nights; what
    could not be used comes back.
    """
    paths = make_stacks(progress.part(0, 0.8), demo)
    found, errors = inspect(document.store, paths, document.state.sources, progress.part(0.8, 0.99))
    progress.step(0.99)
    if found:

        def change(state: ProjectState) -> ProjectState:
            named = state.model_copy(update={"name": demo.name, "plan": demo_plan(demo)})
            if demo is not NEBULA:
                named = named.blended_with(
                    mapping="ha-rgb", luminance={"source": "L"}, white={"field_hue": True}
                )
            return with_sources(named, found)

        document.update("open the demo", change)
        LogTable(document).edit("the demo's log", put_runs(demo_runs(demo)))
    return errors


def wants_last_night(document: Document, demo: Demo = NEBULA) -> bool:
    """Whether a demo has subs of its last night that its log does not hold yet."""
    rows: list[Any] = document.store.rows("SELECT path FROM subs LIMIT 1")
    return _has_subs(demo) and not rows


def log_last_night(document: Document, progress: Progress = SILENT, demo: Demo = NEBULA) -> None:
    """The subs of a demo's last night, into its log."""
    subs = make_subs(progress.part(0, 0.8), demo)
    if subs is not None:
        take_in(LogTable(document), subs, progress=progress.part(0.8, 1))


def prepare_demo(progress: Progress = SILENT, demo: Demo = NEBULA) -> Path:
    """Make a demo project without a window; its folder."""
    folder = demo_project(demo)
    make_demo(progress.part(0, 0.8), demo)
    document = Document(folder, demo.name)
    try:
        if not document.state.sources:
            open_demo(document, progress.part(0.8, 0.9), demo)
        if wants_last_night(document, demo):
            log_last_night(document, progress.part(0.9, 1), demo)
    finally:
        document.close()
    return folder


def start_demo(context: ProjectContext, demo: Demo = NEBULA) -> None:
    """Open a demo in a job, and say what could not be used. The subs of its last night are shot
    once its picture is there: nobody waits for them.
    """

    def work(progress: Progress) -> None:
        errors = open_demo(context.document, progress, demo)
        if errors:
            context.report(errors)

    context.jobs.submit("making the demo", work, lambda _none: finish_demo(context, demo))


def finish_demo(context: ProjectContext, demo: Demo = NEBULA) -> None:
    """Shoot the subs of a demo's last night in a job, where its log does not hold them."""
    if context.document.store.read_only or not wants_last_night(context.document, demo):
        return

    def work(progress: Progress) -> None:
        log_last_night(context.document, progress, demo)

    context.jobs.submit("the demo's last night", work)

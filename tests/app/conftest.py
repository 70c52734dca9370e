"""The real window on a small demo, offscreen."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from standing import stands

from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.theme.look import LOOK, load_fonts
from shared import made_once
from stepped import stepped_session
from waiting import wait


@pytest.fixture(scope="session")
def prepared_project(tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]) -> Path:
    """A project with all stacks of the small demo, its channels in the cache."""
    name = "Weaverbird Nebula"

    def make(folder: Path) -> None:
        session = stepped_session(folder / f"{name}.bichromus", name, layers=True)
        session.channels.open_files(list(demo_files.values()))
        wait(lambda: bool(session.layers.snapshot.continua) and not session.jobs.busy, 120)
        session.close()

    return made_once(tmp_path_factory, "project", make) / f"{name}.bichromus"


Open = Callable[[Path | str], Window]


@pytest.fixture
def application(qtbot: QtBot) -> Iterator[Application]:
    assert qtbot is not None  # it made the Qt application
    load_fonts()
    LOOK.use("dusk")
    found = Application()
    yield found
    if found.window is not None:
        found.window.close()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


@pytest.fixture
def window(
    qtbot: QtBot, application: Application, prepared_project: Path, tmp_path: Path
) -> Window:
    """The window on its own copy of the prepared project, with a picture on the stage."""
    folder = tmp_path / prepared_project.name
    shutil.copytree(prepared_project, folder)
    application.settings.add_recent(folder)  # the person's own: nothing is asked
    opened = application.open(folder)
    qtbot.waitUntil(
        lambda: opened.session.blend.snapshot.recipe is not None and not opened.session.jobs.busy,
        timeout=120_000,
    )
    qtbot.waitUntil(lambda: len(opened.channel_list.cards) == 6, timeout=120_000)
    qtbot.waitUntil(lambda: stands(opened), timeout=120_000)
    return opened

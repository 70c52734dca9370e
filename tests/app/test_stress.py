"""Many moves while jobs run, opening and closing: the last word is the person's, and nothing hangs."""

from __future__ import annotations

import random
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.steps.publish import PublishStep
from bichromus.core.model.progress import Progress
from bichromus.workspace.channels import commands
from bichromus.workspace.project.document import Document
from bichromus.workspace.viewing.renderer import ChannelRenderer

MOVES = 800
ROUNDS = 4


def balance_of(folder: Path) -> float | None:
    document = Document(folder)
    try:
        return document.saved.blend.balance
    finally:
        document.close()


def test_hundreds_of_moves_with_jobs_opening_and_closing(
    qtbot: QtBot, application: Application, window: Window
) -> None:
    """The slider, the canvas and jobs that change the state, at once; in each round the project is
    closed in the middle of it and opened again.
    """
    rng = random.Random(5)
    folder = window.session.document.folder
    for round_number in range(ROUNDS):
        session = window.session
        qtbot.waitUntil(lambda s=session: s.blend.snapshot.recipe is not None, timeout=120_000)  # type: ignore[misc]
        window.go("blend")
        last = 0.0
        for move in range(MOVES // ROUNDS):
            last = round(rng.random(), 3)
            session.blend.show_settings(balance=last, balance_auto=False)
            if move % 50 == 10:
                window.canvas.zoom_by(rng.choice((0.8, 1.25)))
                qtbot.wait(1)  # the window takes what the workers sent
            if move % 100 == 20:
                goal = commands.set_gradient("Ha", None)
                session.jobs.submit("changing", lambda _p, c=goal, s=session: s.do(c))  # type: ignore[misc]
            if move % 125 == 60:
                session.channels.prepare_again()
        if round_number == ROUNDS - 1:
            break
        window.close()  # keeps what is on its way
        assert balance_of(folder) == last
        application.settings.add_recent(folder)  # the person's own: nothing is asked
        window = application.open(folder)
    qtbot.waitUntil(lambda: not window.session.jobs.busy, timeout=120_000)
    qtbot.waitUntil(
        lambda: (
            window.session.blend.snapshot.recipe is not None
            and window.session.blend.snapshot.recipe.settings.balance == last
            and window.canvas.pixels is not None
        ),
        timeout=120_000,
    )
    assert np.ptp(window.canvas.pixels) > 100  # type: ignore[arg-type]


def publish(window: Window, folder: Path) -> None:
    step = window.step_named("publish")
    assert isinstance(step, PublishStep)
    step.set_folder(str(folder))
    step.publish()


WORK: dict[str, Callable[[Window, Path], object]] = {
    "preparing": lambda w, _: w.session.channels.compute_again(),
    "opening": lambda w, folder: w.session.channels.open_files([folder / "none.fits"]),
    "intake": lambda w, folder: w.session.log.take_in(folder),
    "publishing": publish,
    "preview": lambda w, _: w.canvas.ask(),
    "anything": lambda w, _: w.session.jobs.submit("anything", lambda p: p.step(0.5)),
}


@pytest.mark.parametrize("work", WORK)
def test_closing_never_waits_for_what_does_not_listen(
    work: str, window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The work stands still in the middle of a step, and goes on only after the window is gone."""
    session, folder = window.session, window.session.document.folder
    inside, gone, freed = threading.Event(), threading.Event(), threading.Event()

    def stand_still(*_values: object) -> None:
        inside.set()
        if not gone.wait(30):
            freed.set()

    monkeypatch.setattr(Progress, "step", stand_still)
    monkeypatch.setattr(ChannelRenderer, "alone", stand_still)
    WORK[work](window, tmp_path)
    assert inside.wait(20)
    session.blend.show_settings(balance=0.375, balance_auto=False)
    window.close()
    gone.set()
    assert not freed.is_set()
    assert balance_of(folder) == 0.375

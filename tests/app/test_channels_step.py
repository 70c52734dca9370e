"""Channels in the window, on stacks of three rigs: how they lie, who is in the pool, what is
marked, what wants a word.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.steps.channels import ChannelsStep
from bichromus.app.steps.channels.starmap import StarMap
from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.planes import Header
from stepped import stepped_session
from waiting import wait

NAMES = ("Ridge_O3", "Shed_O3", "Balcony_Ha_O3")


@pytest.fixture(scope="module")
def project(tmp_path_factory: pytest.TempPathFactory, mess_files: dict[str, Path]) -> Path:
    folder = tmp_path_factory.mktemp("rigs") / "Mess.bichromus"
    session = stepped_session(folder, "Mess")
    session.channels.open_files([mess_files[n] for n in NAMES])
    wait(lambda: session.blend.snapshot.recipe is not None and not session.jobs.busy, 120)
    session.close()
    return folder


@pytest.fixture
def step(qtbot: QtBot, application: Application, project: Path) -> Iterator[ChannelsStep]:
    application.settings.add_recent(project)  # the person's own: nothing is asked
    window = application.open(project)
    window.resize(1280, 800)
    qtbot.waitUntil(
        lambda: window.session.blend.snapshot.recipe is not None and not window.session.jobs.busy,
        timeout=120_000,
    )
    window.go("channels")
    found = window.step_named("channels")
    assert isinstance(found, ChannelsStep)
    window.select("O3")
    qtbot.waitUntil(lambda: found.selected == "pool@O3")
    begun = window.session.state
    yield found
    while window.session.state != begun and window.session.document.undo():
        pass
    qtbot.waitUntil(lambda: not window.session.jobs.busy, timeout=120_000)


def window_of(step: ChannelsStep) -> Window:
    window = step.context.window
    assert isinstance(window, Window)
    return window


def test_how_stacks_lie_is_said_and_their_misses_are_drawn(
    qtbot: QtBot, step: ChannelsStep
) -> None:
    assert step.chain.rows["align"].words.text().startswith("2 of 3 stacks moved")
    step.chain.toggle("align")
    figures = [parts[0].text() for parts in step.align.lines.rows if parts[0].isVisible()]
    assert figures == ["Shed, O3", "Balcony, Ha+O3"]
    assert "mirrored" in [parts[1].text() for parts in step.align.lines.rows]
    qtbot.mouseClick(step.align.misses, Qt.MouseButton.LeftButton)
    canvas = step.context.canvas
    arrows = [m for m in canvas.marks if m.kind == "arrow"]
    assert len(arrows) > 40
    assert any("times enlarged" in m.words for m in canvas.marks)
    assert step.align.whose.count() == 2
    step.align.whose.setCurrentIndex(1)
    step.align.whose.activated.emit(1)
    assert [m for m in canvas.marks if m.kind == "arrow"] != arrows
    canvas.grab()  # marks can be painted
    qtbot.mouseClick(step.align.misses, Qt.MouseButton.LeftButton)
    assert canvas.marks == ()
    step.align.crop.activated.emit(1)
    qtbot.waitUntil(lambda: window_of(step).canvas.shape_shown == (535, 800), timeout=120_000)


def test_the_pool_says_who_is_worth_what_and_leaves_one_out(
    qtbot: QtBot, step: ChannelsStep
) -> None:
    step.chain.toggle("pool")
    assert set(step.pool.boxes) == {
        p.origin for p in step.session.channels.snapshot.origins["pool@O3"].notes.pool.parts
    }
    assert "what was left out" in step.chain.views.words[1]
    hazy = next(o for o, b in step.pool.boxes.items() if b.text().startswith("Shed"))
    assert "without it −" in step.pool.boxes[hazy].text()
    assert "noise" in step.pool.boxes[hazy].toolTip()
    qtbot.mouseClick(
        step.pool.boxes[hazy],
        Qt.MouseButton.LeftButton,
        pos=QPoint(7, step.pool.boxes[hazy].height() // 2),
    )
    qtbot.waitUntil(
        lambda: step.session.state.preparation.left_out == (hazy,) and not step.session.jobs.busy,
        timeout=120_000,
    )
    qtbot.waitUntil(lambda: "with it +" in step.pool.boxes[hazy].text(), timeout=120_000)
    assert step.chain.rows["pool"].words.text().startswith("2 stacks")
    assert step.pool.width() <= 290


def test_tilt_cores_and_halos_are_seen_and_said(qtbot: QtBot, step: ChannelsStep) -> None:
    figures = step.figures
    assert figures.source.currentText().startswith("Balcony")
    assert "lower right: tilt" in figures.words.text()
    assert figures.map.isVisible()
    figures.map.grab()
    figures.histogram.grab()
    window = window_of(step)
    assert "Stars of Balcony" in window.status_bar.sentence.text
    assert "2 full cores, 2 with halos" in figures.marks.text()
    qtbot.keyClick(window.canvas, Qt.Key.Key_M)
    kinds = sorted(m.kind for m in window.canvas.marks)
    assert kinds == ["core", "core", "ring", "ring"]
    assert any("halo" in m.words for m in window.canvas.marks)
    qtbot.keyClick(window.canvas, Qt.Key.Key_M)
    assert window.canvas.marks == ()
    empty = StarMap()
    qtbot.addWidget(empty)
    empty.show_field(None)
    assert not empty.isVisible()


def test_stars_are_split_from_the_chain_and_seen(qtbot: QtBot, step: ChannelsStep) -> None:
    step.chain.toggle("stars")
    qtbot.keyClick(step.context.canvas, Qt.Key.Key_I)
    qtbot.waitUntil(
        lambda: "O3" in step.session.channels.snapshot.starless and not step.session.jobs.busy,
        timeout=120_000,
    )
    qtbot.waitUntil(lambda: "split off" in step.chain.rows["stars"].words.text(), timeout=120_000)
    canvas = step.context.canvas
    qtbot.keyClick(canvas, Qt.Key.Key_V)
    assert canvas.view_mode == "starless"
    qtbot.waitUntil(lambda: canvas.pixels is not None, timeout=120_000)
    assert "without stars" in canvas.caption[1]  # type: ignore[index]
    rows = {
        parts[0].text(): parts[2].text()
        for parts in step.stars.figures.rows
        if parts[0].isVisible()
    }
    assert set(rows) == {"filled in", "light left", "roughness"}


def test_a_header_that_says_nothing_is_asked_about(
    qtbot: QtBot, step: ChannelsStep, mess_files: dict[str, Path], tmp_path: Path
) -> None:
    window = window_of(step)
    data = read_picture(mess_files["Ridge_S2"]).data
    write_fits(tmp_path / "night7.fits", data, Header(saturation=1.0, station="Ridge"))
    step.session.channels.open_files([tmp_path / "night7.fits"])
    qtbot.waitUntil(
        lambda: len(step.session.state.sources) == 4 and not step.session.jobs.busy, timeout=120_000
    )
    qtbot.waitUntil(lambda: "night7.fits" in step.stacks.ask.text(), timeout=120_000)
    assert step.status()[1] == 1
    source = step.session.state.sources[-1]
    menu = step.stacks.menu_of(source, window)
    next(a for a in menu.actions() if a.text() == "S2").trigger()
    qtbot.waitUntil(
        lambda: "S2" in step.session.channels.snapshot.names and not step.session.jobs.busy,
        timeout=120_000,
    )
    assert step.stacks.ask.isHidden()
    assert step.status()[1] == 0
    assert "cache" in step.stacks.cache.text()
    QApplication.processEvents()

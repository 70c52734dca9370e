"""Log and Subs in the real window: typed, pasted, rehearsed, reviewed by key, stacked."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QGuiApplication, QHelpEvent, QMouseEvent
from PyQt6.QtWidgets import QApplication, QFileDialog, QMessageBox
from pytestqt.qtbot import QtBot

from bichromus.app.shell.light import use_theme
from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.steps.log import LogStep
from bichromus.app.steps.log.export_dialog import ExportDialog
from bichromus.app.steps.log.growing import PACES
from bichromus.app.steps.log.rundialog import RunDialog
from bichromus.app.steps.log.words import growth_card, growth_legend
from bichromus.app.steps.subs import SubsStep
from bichromus.core.advise.enough import Growth
from bichromus.core.simulate.evening import Exposure
from bichromus.core.simulate.forecast import Forecast
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.planning import rehearsal
from bichromus.workspace.planning.rehearsal import Rehearsal, make_evening, shoot
from bichromus.workspace.session import Session

TABLE = "night\tstation\tchannel\tsub\tkept\trejected\tnotes\n" + "\n".join(
    f"2027-0{1 + n % 3}-{10 + n}\t{('Ridge', 'Shed')[n % 2]}\t{('Ha', 'O3', 'S2')[n % 3]}\t300\t{10 + n}\t{n % 2}\tn{n}"
    for n in range(12)
)


@pytest.fixture
def opened(qtbot: QtBot, application: Application, tmp_path: Path) -> Window:
    """A new project that knows the demo's stations."""
    folder = tmp_path / "new.bichromus"
    made = Session(folder, "New")
    made.planning.set_plan("things", **{**demo_plan().model_dump(), "date": "2027-03-11"})
    made.close()
    application.settings.add_recent(folder)  # the person's own: nothing is asked
    window = application.open(folder)
    qtbot.waitUntil(lambda: window.session.planning.snapshot.view is not None, timeout=120_000)
    window.go("log")
    return window


def log_of(window: Window) -> LogStep:
    step = window.step_named("log")
    assert isinstance(step, LogStep)
    return step


def subs_of(window: Window) -> SubsStep:
    step = window.step_named("subs")
    assert isinstance(step, SubsStep)
    return step


def run(window: Window, command: str) -> None:
    next(c for c in window.commands if c.id == command).run()


def test_runs_are_pasted_typed_changed_and_undone(qtbot: QtBot, opened: Window) -> None:
    step, book = log_of(opened), opened.session.log
    assert step.stage.currentIndex() == 0
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    clipboard.setText(TABLE)
    run(opened, "paste-runs")
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 12, timeout=120_000)
    assert step.stage.currentIndex() == 1
    assert step.stage.total.text().startswith("12 nights, ")
    assert "12 runs pasted" in opened.status_bar.sentence.text
    assert {c.channel for c in opened.channel_list.cards} >= {"Ha", "O3", "S2"}
    assert step.plot.growths == ()  # nothing was measured yet
    # the chosen night is the last; Enter closes and opens it, up goes to the one before
    assert step.matrix.row is not None
    assert step.matrix.row.night == max(r.night for r in step.matrix.view.rows)
    lines = len(step.matrix.lines)
    qtbot.keyClick(step.matrix, Qt.Key.Key_Return)
    assert len(step.matrix.lines) == lines - 2
    qtbot.keyClick(step.matrix, Qt.Key.Key_Return)
    qtbot.keyClick(step.matrix, Qt.Key.Key_Down)
    assert step.matrix.run is not None
    qtbot.keyClick(step.matrix, Qt.Key.Key_Return)
    dialog = next(
        w for w in QApplication.topLevelWidgets() if isinstance(w, RunDialog) and w.isVisible()
    )
    assert dialog.lines["notes"].text() == step.matrix.run.notes
    dialog.lines["kept"].setText("many")
    dialog.keep()
    assert "not a number" in dialog.message.text()
    dialog.lines["kept"].setText("30")
    dialog.lines["guiding_arcsec"].setText("0,61")
    dialog.keep()
    qtbot.waitUntil(
        lambda: step.matrix.run is not None and step.matrix.run.kept == 30, timeout=120_000
    )
    assert step.matrix.run.figures["guiding_arcsec"] == 0.61
    qtbot.keyClick(step.matrix, Qt.Key.Key_Delete)
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 11, timeout=120_000)
    run(opened, "undo")
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 12, timeout=120_000)
    run(opened, "undo")
    run(opened, "undo")
    qtbot.waitUntil(lambda: step.stage.currentIndex() == 0, timeout=120_000)
    run(opened, "redo")
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 12, timeout=120_000)
    clipboard.setText("no table")
    run(opened, "paste-runs")
    assert "not a table of runs" in opened.sheets.errors.text
    assert book.snapshot.hours["Ha"] == pytest.approx(
        sum(10 + n for n in range(0, 12, 3)) * 300 / 3600
    )


def test_the_log_is_filtered_summed_and_pointed_at(
    qtbot: QtBot, opened: Window, tmp_path: Path
) -> None:
    step = log_of(opened)
    opened.session.log.paste(TABLE)
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 12, timeout=120_000)
    box = step.stage.boxes["station"]
    box.setCurrentIndex(box.findText("Shed"))
    box.activated.emit(box.currentIndex())
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 6, timeout=120_000)
    box.setCurrentIndex(0)
    box.activated.emit(0)
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 12, timeout=120_000)
    port = step.matrix.viewport()
    assert port is not None
    said = {
        step.matrix.tip_at(x, y)
        for x in range(5, port.width(), 40)
        for y in range(5, port.height(), 12)
    }
    assert any("kept, 5m rejected" in t.replace("0h 0", "") for t in said)
    assert any("hydrogen-alpha" in t for t in said)
    QApplication.sendEvent(
        port, QHelpEvent(QEvent.Type.ToolTip, QPoint(20, 60), port.mapToGlobal(QPoint(20, 60)))
    )
    for form, word in (
        ("text", "nights"),
        ("markdown", "| channel |"),
        ("csv", "channel,subs"),
        ("json", '"channels"'),
    ):
        step.summary.copy_summary(form)
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        assert word in clipboard.text()
    step.summary.save(tmp_path / "s.txt", whole=False)
    step.summary.save(tmp_path / "log.csv", whole=True)
    assert "Ha" in (tmp_path / "s.txt").read_text()
    assert len((tmp_path / "log.csv").read_text().splitlines()) == 1 + sum(
        10 + n + n % 2 for n in range(12)
    )
    step.summary.save(tmp_path / "none" / "s.txt", whole=False)
    assert "folder of the output does not exist" in opened.sheets.errors.text
    assert not step.matrix.grab().isNull()
    use_theme(opened.settings, "red")
    image = step.stage.grab().toImage()
    colours = {
        image.pixelColor(x, y).getRgb()[1:3]
        for x in range(0, image.width(), 9)
        for y in range(0, image.height(), 9)
    }
    assert max(max(c) for c in colours) < 95  # red light stays red
    use_theme(opened.settings, "dusk")


def test_an_evening_is_rehearsed_into_a_watched_folder(
    qtbot: QtBot, opened: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    step, session = log_of(opened), opened.session
    monkeypatch.setattr(rehearsal, "Rehearsal", lambda *a: Rehearsal(*a[:-1], (120, 160)))
    step.growing.pace.setCurrentIndex([w for w, _ in PACES].index("at once"))
    assert session.planning.snapshot.view is not None
    planned = {b.filter for b in session.planning.snapshot.view.tonight.blocks}
    run(opened, "rehearse")
    assert step.growing.rehearse.text() == "Stop the rehearsal"
    assert session.state.log.watched
    qtbot.waitUntil(lambda: len(session.log.snapshot.subs) >= 4, timeout=120_000)
    assert "Watching" in step.growing.state.text()
    if session.evening.running:  # a quick machine may be done already
        run(opened, "rehearse")
    qtbot.waitUntil(
        lambda: not session.evening.running and step.growing.rehearse.text() == "Rehearse tonight",
        timeout=120_000,
    )
    assert {s.channel for s in session.log.snapshot.subs} <= planned
    assert all(
        s.contributor == "Ridge" and s.night.isoformat() == "2027-03-11"
        for s in session.log.snapshot.subs
    )
    run(opened, "undo")
    assert session.state.log.watched == ""


@pytest.fixture
def shot(qtbot: QtBot, opened: Window, tmp_path: Path) -> Window:
    """The window with nine subs of an evening, the fourth under cloud, in review."""
    plan = demo_plan()
    start = dt.datetime(2027, 3, 10, 10, tzinfo=dt.UTC)
    shots = [Exposure("Ha", start + dt.timedelta(minutes=6 * n), 300.0) for n in range(9)]
    e = make_evening(
        plan.sites[0], plan.rigs[0], plan.targets[0], plan.filters, shots, Forecast(()), mishaps=0.0
    )
    dim = [
        a if n != 3 else type(a)(light=0.25, fwhm_arcsec=a.fwhm_arcsec, shift=a.shift)
        for n, a in enumerate(e.air)
    ]
    shoot(
        type(e)(e.site, e.rig, e.target, e.filters, e.shots, tuple(dim), e.seed),
        tmp_path / "subs",
        (260, 360),
    )
    opened.session.log.take_in(tmp_path / "subs")
    opened.go("subs")
    reviewer = opened.session.subs
    qtbot.waitUntil(
        lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.measured == 9,
        timeout=120_000,
    )
    qtbot.waitUntil(
        lambda: subs_of(opened).canvas.pixels is not None and not opened.session.jobs.busy,
        timeout=120_000,
    )
    return opened


def test_subs_are_stepped_and_decided_by_key(qtbot: QtBot, shot: Window) -> None:
    step, reviewer = subs_of(shot), shot.session.subs
    group = reviewer.snapshot.group
    assert group is not None
    assert [n for n, r in enumerate(group.subs) if r.waiting] == [3]
    qtbot.waitUntil(
        lambda: next(s for s in shot.head.route.marks if s.id == "subs").count == 1,
        timeout=120_000,
    )
    reviewer.go(0)
    for key, index in (
        (Qt.Key.Key_Period, 1),
        (Qt.Key.Key_Period, 2),
        (Qt.Key.Key_Comma, 1),
        (Qt.Key.Key_D, 3),
    ):
        qtbot.keyClick(step.canvas, key)
        qtbot.waitUntil(
            lambda i=index: step.stage.where.text().startswith(f"{i + 1} of 9"), timeout=120_000
        )
    assert "cloud" in step.stage.verdict.text()
    assert "Cloud: leaving it out costs 5 min" in shot.status_bar.sentence.text
    qtbot.keyClick(step.canvas, Qt.Key.Key_X)
    qtbot.waitUntil(
        lambda: (
            reviewer.snapshot.group is not None and not reviewer.snapshot.group.subs[3].sub.kept
        ),
        timeout=120_000,
    )
    assert reviewer.snapshot.index == 4
    qtbot.waitUntil(
        lambda: next(c for c in shot.channel_list.cards if c.channel == "Ha").figure == "1",
        timeout=120_000,
    )
    qtbot.keyClick(step.canvas, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(
        lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.waiting == 1,
        timeout=120_000,
    )
    qtbot.keyClick(step.canvas, Qt.Key.Key_X, Qt.KeyboardModifier.ShiftModifier)
    qtbot.waitUntil(
        lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.waiting == 0,
        timeout=120_000,
    )
    # a click on a point of a plot, and on a neighbour, goes to the sub
    plot = step.stage.plots.plots[4]
    place = plot.place_of(6)
    assert place is not None
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton, pos=place.toPoint())
    assert reviewer.snapshot.index == 6
    qtbot.mouseClick(
        step.stage.strip,
        Qt.MouseButton.LeftButton,
        pos=step.stage.strip.rect_of(7).center().toPoint(),
    )
    assert reviewer.snapshot.index == 7
    qtbot.keyClick(step.canvas, Qt.Key.Key_K)
    qtbot.waitUntil(
        lambda: (
            reviewer.snapshot.group is not None
            and reviewer.snapshot.group.subs[7].sub.mark == "keep"
        ),
        timeout=120_000,
    )
    before = step.canvas.zoom
    qtbot.keyClick(step.canvas, Qt.Key.Key_Z)
    assert step.canvas.zoom == 1.0 != before
    shot.go("channels")
    index = reviewer.snapshot.index
    qtbot.keyClick(shot.canvas, Qt.Key.Key_X)  # no keys of the review elsewhere
    assert reviewer.snapshot.index == index


def test_kept_subs_are_listed_moved_when_asked_and_stacked(
    qtbot: QtBot, shot: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    step, reviewer = subs_of(shot), shot.session.subs
    reviewer.go(3)
    reviewer.decide(False)
    qtbot.waitUntil(
        lambda: (
            reviewer.snapshot.group is not None and not reviewer.snapshot.group.subs[3].sub.kept
        ),
        timeout=120_000,
    )
    assert reviewer.snapshot.group is not None
    gone = Path(reviewer.snapshot.group.subs[3].sub.file)
    reviewer.export_kept(tmp_path / "kept.txt")
    assert (tmp_path / "kept.txt").read_text().splitlines() == [
        r.sub.file for n, r in enumerate(reviewer.snapshot.group.subs) if n != 3
    ]
    monkeypatch.setattr(QMessageBox, "exec", lambda _box: QMessageBox.StandardButton.No)
    step.kept.ask_move()
    assert gone.exists()
    monkeypatch.setattr(QMessageBox, "exec", lambda _box: QMessageBox.StandardButton.Yes)
    step.kept.ask_move()
    assert not gone.exists()
    assert (gone.parent / "rejected" / gone.name).exists()
    qtbot.waitUntil(
        lambda: (
            reviewer.snapshot.group is not None
            and "/rejected/" in reviewer.snapshot.group.subs[3].sub.file
        ),
        timeout=120_000,
    )
    run(shot, "stack-night")
    qtbot.waitUntil(
        lambda: (
            shot.step.id == "channels"
            and shot.canvas.pixels is not None
            and not shot.session.jobs.busy
        ),
        timeout=120_000,
    )
    assert shot.session.channels.snapshot.channel("Ha").preliminary
    assert shot.canvas.alone == shot.session.channels.snapshot.chosen["Ha"]
    assert shot.canvas.shape_shown == (260, 360)
    assert np.ptp(shot.canvas.pixels) > 100  # type: ignore[arg-type]


def test_a_station_is_exported_and_taken_in_elsewhere(
    qtbot: QtBot, shot: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    log, folder = log_of(shot), tmp_path / "given"
    folder.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a: str(folder))

    def choose(dialog: ExportDialog) -> int:
        assert dialog.subs.text() == "the kept subs (9)"
        assert not dialog.recipes.isEnabled()
        dialog.subs.click()
        return 1

    monkeypatch.setattr(ExportDialog, "exec", choose)
    log.people.choose_export()
    qtbot.waitUntil(
        lambda: (folder / "contribution.json").exists() and not shot.session.jobs.busy,
        timeout=120_000,
    )
    assert len(list((folder / "subs").rglob("*.fits"))) == 9
    other = Session(tmp_path / "other.bichromus", "Other")
    other.follow()
    for _ in range(2):
        other.handover.take(folder)
        qtbot.waitUntil(
            lambda: not other.jobs.busy and other.log.snapshot.hours == {"Ha": pytest.approx(0.75)},
            timeout=120_000,
        )
    assert other.log.snapshot.view.stations == ("Ridge",)
    other.close()


def test_the_wheel_scrolls_a_long_log_and_paints_only_what_is_seen(
    qtbot: QtBot, opened: Window
) -> None:
    step = log_of(opened)
    rows = "\n".join(
        f"{dt.date(2024, 1, 1) + dt.timedelta(days=3 * n)};Ridge;{('Ha', 'O3')[n % 2]};300;{5 + n % 40}"
        for n in range(300)
    )
    opened.session.log.paste(f"night;station;channel;sub;kept\n{rows}")
    qtbot.waitUntil(lambda: len(step.matrix.view.rows) == 300, timeout=120_000)
    bar = step.matrix.verticalScrollBar()
    assert bar is not None
    assert bar.value() == bar.maximum() > 8000
    bar.setValue(3000)
    seen = step.matrix.lines_seen()
    assert 3 < len(seen) < 25
    assert not step.matrix.grab().isNull()
    qtbot.keyClick(step.matrix, Qt.Key.Key_Home)
    assert bar.value() == 0
    port = step.matrix.viewport()
    click = QMouseEvent(
        QEvent.Type.MouseButtonPress,
        QPointF(30, 60),
        QPointF(30, 60),
        Qt.MouseButton.LeftButton,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )
    assert port is not None
    QApplication.sendEvent(port, click)
    assert step.matrix.row is not None
    assert step.matrix.row.key in step.matrix.open_keys


def test_hours_of_several_rigs_are_told_as_those_of_one() -> None:
    growth = Growth("O3", 9.3, 12.0, 50.0, 9.3, 1.0, 8.0, 15.1, "Pier, 80 mm refractor")
    card = growth_card(growth, "2")
    assert card.hours == "9h 18m / 12h"
    assert "15h 06m kept, as much as 9h 18m of Pier." in card.tip
    assert "along the root of the hours of Pier. " in growth_legend([growth])
    alike = replace(growth, shot_h=9.3, hours_of="")
    assert "as much as" not in growth_card(alike, "2").tip
    assert "root of the hours. " in growth_legend([alike])

"""The window as a person uses it."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QGuiApplication, QWheelEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QMessageBox,
    QWidget,
)
from pytestqt.qtbot import QtBot
from scipy.stats import spearmanr

from bichromus.app.canvas.marks import Mark
from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.app.steps.blend import BlendStep
from bichromus.app.steps.channels import ChannelsStep
from bichromus.app.steps.publish import PublishStep
from bichromus.app.steps.publish.template_dialog import TemplateDialog
from bichromus.app.theme.look import LOOK
from bichromus.core.files import read_picture
from bichromus.core.model.errors import Cancelled, ProjectError
from bichromus.core.selftest import Finding
from bichromus.workspace import session
from bichromus.workspace.channels.notes import GradientNote
from bichromus.workspace.project.state import PLANE
from bichromus.workspace.viewing.crops import GAP_PX, crops_on
from bichromus.workspace.work.jobs import JobReport


def blend_of(window: Window) -> BlendStep:
    step = window.step_named("blend")
    assert isinstance(step, BlendStep)
    return step


def channels_of(window: Window) -> ChannelsStep:
    step = window.step_named("channels")
    assert isinstance(step, ChannelsStep)
    return step


def publish_of(window: Window) -> PublishStep:
    step = window.step_named("publish")
    assert isinstance(step, PublishStep)
    return step


def press(
    qtbot: QtBot,
    widget: QWidget,
    key: Qt.Key,
    mods: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:
    qtbot.keyClick(widget, key, mods)


def picture(window: Window) -> np.ndarray:
    assert window.canvas.pixels is not None
    return window.canvas.pixels


def test_the_route_leads_through_the_steps_and_the_ledger_follows(
    qtbot: QtBot, window: Window
) -> None:
    assert [s.title for s in window.head.route.marks] == [
        "Plan",
        "Log",
        "Subs",
        "Channels",
        "Blend",
        "Versions",
        "Publish",
    ]
    assert [c.channel for c in window.channel_list.cards] == ["Ha", "O3", "S2", "R", "G", "B"]
    assert window.channel_list.cards[0].label == "stars"
    press(qtbot, window.canvas, Qt.Key.Key_5)
    assert window.step.id == "blend"
    assert window.channel_list.cards[0].label == "level"
    assert window.channel_list.cards[3].figure == "no"
    needy = [c for c in window.channel_list.cards if c.wants]
    for card in needy:
        assert " of " in card.snr
        assert 0 < (card.share or 0) < 1
    qtbot.mouseClick(
        window.head.route, Qt.MouseButton.LeftButton, pos=window.head.route.centre_of(6).toPoint()
    )
    assert window.step.id == "publish"
    press(qtbot, window.head.route, Qt.Key.Key_Left)
    assert window.step.id == "versions"


def test_a_channel_alone_while_its_key_is_held(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    qtbot.waitUntil(
        lambda: window.canvas.pixels is not None and np.ptp(picture(window), axis=2).max() > 30,
        timeout=120_000,
    )
    qtbot.keyPress(window.canvas, Qt.Key.Key_O)
    assert window.canvas.alone == "O3"
    qtbot.waitUntil(lambda: np.ptp(picture(window), axis=2).max() == 0, timeout=120_000)
    qtbot.keyRelease(window.canvas, Qt.Key.Key_O)
    assert window.canvas.alone is None
    qtbot.waitUntil(lambda: np.ptp(picture(window), axis=2).max() > 30, timeout=120_000)
    qtbot.keyPress(window.canvas, Qt.Key.Key_L)
    assert "no L" in window.status_bar.sentence.text
    qtbot.keyRelease(window.canvas, Qt.Key.Key_L)
    window.go("publish")
    stem = publish_of(window).where.stem
    stem.setFocus()
    qtbot.keyClicks(stem, "HOS")
    assert window.canvas.alone is None


def test_holding_space_shows_the_picture_before_the_last_change(
    qtbot: QtBot, window: Window
) -> None:
    window.go("blend")
    qtbot.waitUntil(
        lambda: window.canvas.pixels is not None and np.ptp(picture(window), axis=2).max() > 30,
        timeout=120_000,
    )
    qtbot.keyPress(window.canvas, Qt.Key.Key_Space)
    assert "no earlier picture" in window.status_bar.sentence.text
    qtbot.keyRelease(window.canvas, Qt.Key.Key_Space)
    first = picture(window).copy()
    window.session.blend.set_mapping("bicolour")
    qtbot.waitUntil(lambda: np.abs(picture(window).astype(int) - first).mean() > 2, timeout=120_000)
    second = picture(window).copy()
    qtbot.keyPress(window.canvas, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: np.array_equal(picture(window), first), timeout=120_000)
    qtbot.keyRelease(window.canvas, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: np.array_equal(picture(window), second), timeout=120_000)


def test_balance_by_dial_by_key_and_back_by_undo(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    step = blend_of(window)
    auto = window.session.blend.snapshot.recipe.settings.balance  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: step.balance.dial.value == auto)
    point = step.balance.dial.point_of(0.8).toPoint()
    qtbot.mousePress(
        step.balance.dial, Qt.MouseButton.LeftButton, pos=step.balance.dial.point_of(0.5).toPoint()
    )
    assert window.session.document.saved.blend.balance_auto  # not yet a command
    qtbot.mouseMove(step.balance.dial, point)
    qtbot.mouseRelease(step.balance.dial, Qt.MouseButton.LeftButton, pos=point)
    assert window.session.document.saved.blend.balance == pytest.approx(0.8, abs=0.02)
    assert not window.session.document.saved.blend.balance_auto
    qtbot.waitUntil(lambda: not step.balance.auto.isChecked(), timeout=120_000)
    for _ in range(3):
        press(qtbot, window.canvas, Qt.Key.Key_BracketRight)
    qtbot.waitUntil(
        lambda: window.session.document.saved.blend.balance == pytest.approx(0.86, abs=0.025),
        timeout=3000,
    )
    press(qtbot, window.canvas, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.session.state.blend.balance == pytest.approx(
        0.8, abs=0.02
    )  # three presses, one entry
    assert "Undone: balance" in window.status_bar.sentence.text
    press(qtbot, window.canvas, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.session.state.blend.balance_auto
    press(
        qtbot,
        window.canvas,
        Qt.Key.Key_Z,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )
    assert not window.session.state.blend.balance_auto
    press(qtbot, window.canvas, Qt.Key.Key_A)
    assert window.session.state.blend.balance_auto


def test_the_dial_never_falls_back_to_a_recipe_that_is_older_than_the_gesture(
    qtbot: QtBot, window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.go("blend")
    step, session = blend_of(window), window.session
    qtbot.waitUntil(lambda: not session.previews.busy)
    held: dict[str, Callable[[], None]] = {}
    with monkeypatch.context() as patched:
        patched.setattr(session.previews, "request", held.__setitem__)  # no recipe is made yet
        session.blend.set_settings("balance", balance=0.7, balance_auto=False)
        step.enter()  # any refresh meanwhile
        assert session.blend.snapshot.recipe is not None
        assert session.blend.snapshot.recipe.settings.balance != 0.7
        assert step.balance.dial.value == 0.7
        step.nudge(0.02)
        step.finish()
    assert session.document.saved.blend.balance == pytest.approx(0.72)
    held["recipe"]()
    assert session.blend.snapshot.recipe.settings.balance == pytest.approx(0.72)


def test_the_mix_table_takes_typing_arrows_and_the_mouse(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    table = blend_of(window).mix.table
    table.setFocus()
    assert table.channels == ["Ha", "O3", "S2"]
    qtbot.mouseClick(table, Qt.MouseButton.LeftButton, pos=table.cell_rect(1, 1).center().toPoint())
    qtbot.keyClicks(table, "0.35")
    assert window.step.id == "blend"  # digits typed here are no shortcuts
    press(qtbot, table, Qt.Key.Key_Return)
    assert window.session.state.blend.mix["G"]["O3"] == 0.35
    assert window.session.state.blend.mapping == "free"
    press(qtbot, table, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert window.session.state.blend.mix["G"]["O3"] == pytest.approx(0.40)
    press(qtbot, table, Qt.Key.Key_Delete)
    assert "O3" not in window.session.state.blend.mix["G"]
    qtbot.waitUntil(lambda: blend_of(window).mix.note.text() == "own mix")


def test_palettes_are_live_and_choosing_one_fills_the_table(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    step = blend_of(window)
    ids = [i.id for i in step.sheet.row.items]
    assert ids[:4] == ["hubble-order", "bicolour", "bicolour-shared", "line-hues"]
    qtbot.waitUntil(lambda: set(ids) <= set(step.sheet.row.pictures), timeout=120_000)
    first, other = (step.sheet.row.pictures[i].astype(float) for i in ids[:2])
    assert np.abs(first - other).mean() > 2
    qtbot.mouseClick(
        step.sheet.row, Qt.MouseButton.LeftButton, pos=step.sheet.row.rect_of(2).center().toPoint()
    )
    mix = step.mix
    qtbot.waitUntil(lambda: set(mix.table.mix["G"]) == {"O3", "Ha"})
    assert mix.share.isVisible()
    assert not mix.share.isEnabled()  # loudness shares the green
    recipe = window.session.blend.snapshot.recipe
    assert mix.share.slider.value == recipe.settings.green_share
    mix.share_auto.box.click()
    qtbot.waitUntil(lambda: mix.table.mix["G"] == {"O3": 0.5, "Ha": 0.5})
    qtbot.waitUntil(mix.share.isEnabled)
    mix.share.slider.setFocus()
    press(qtbot, mix.share.slider, Qt.Key.Key_PageDown)
    qtbot.waitUntil(
        lambda: window.session.document.saved.blend.green_share == pytest.approx(0.4),
        timeout=3000,
    )
    press(qtbot, window.canvas, Qt.Key.Key_P)
    qtbot.waitUntil(lambda: step.sheet.row.current == "line-hues")


def test_zoom_pan_fit_and_the_probe(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    canvas = window.canvas
    whole = canvas.zoom
    assert whole is not None
    at = QPointF(canvas.width() * 0.25, canvas.height() * 0.4)
    before = canvas.camera.to_picture(at.x(), at.y(), canvas.width(), canvas.height())  # type: ignore[union-attr]
    wheel = QWheelEvent(
        at,
        canvas.mapToGlobal(at),
        QPoint(),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(canvas, wheel)
    assert canvas.zoom == pytest.approx(whole * 1.44)
    after = canvas.camera.to_picture(at.x(), at.y(), canvas.width(), canvas.height())  # type: ignore[union-attr]
    assert after == pytest.approx(before, abs=1e-6)
    press(qtbot, canvas, Qt.Key.Key_Z)
    assert canvas.zoom == 1.0
    middle = QPoint(canvas.width() // 2, canvas.height() // 2)
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=middle)
    start = canvas.camera.cx  # type: ignore[union-attr]
    qtbot.mouseMove(canvas, middle + QPoint(30, 0))
    qtbot.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=middle + QPoint(30, 0))
    assert canvas.camera.cx == pytest.approx(start - 30)  # type: ignore[union-attr]
    press(qtbot, canvas, Qt.Key.Key_F)
    assert canvas.zoom == pytest.approx(whole)
    canvas.pointed.emit(300, 200)
    words = window.status_bar.probe.text()
    assert "Ha " in words
    assert "SNR" in words
    assert words.endswith("300, 200")
    press(qtbot, canvas, Qt.Key.Key_Plus)
    press(qtbot, canvas, Qt.Key.Key_Left)
    assert canvas.zoom != whole


def test_channels_are_looked_at_and_taken_from_either_origin(qtbot: QtBot, window: Window) -> None:
    window.go("channels")
    step = channels_of(window)
    titles = [i.title for i in step.sheet.row.items]
    assert len(titles) == 12  # three lines from two stations each and pooled, R, G, B from one
    origin = next(i.id for i in step.sheet.row.items if i.title.startswith("O3  Balcony"))
    step.sheet.chosen.emit(origin)
    assert window.canvas.alone == origin
    assert step.extract.leaks.lines == ("Ha", "O3")
    assert step.extract.leaks.words("G") == "Ha leaks 11 %"
    # the pool is switched off, and one origin taken alone; both can be undone
    qtbot.mouseClick(step.chain.rows["pool"].title, Qt.MouseButton.LeftButton)
    assert step.pool.isVisible()
    assert list(step.chain.rows) == ["extract", "align", "gradient", "pool", "continuum", "stars"]
    qtbot.mouseClick(step.chain.rows["pool"].switch, Qt.MouseButton.LeftButton, pos=QPoint(7, 7))
    qtbot.waitUntil(lambda: window.session.channels.snapshot.channel("O3").label == "Ridge")
    assert step.chain.rows["pool"].words.text() == "Ridge alone"
    radio = step.pool.radios[origin]
    qtbot.mouseClick(radio, Qt.MouseButton.LeftButton, pos=QPoint(8, radio.height() // 2))
    qtbot.waitUntil(lambda: window.session.channels.snapshot.channel("O3").id == origin)
    window.undo()
    qtbot.waitUntil(lambda: window.session.channels.snapshot.channel("O3").id != origin)
    qtbot.mouseClick(
        window.channel_list,
        Qt.MouseButton.LeftButton,
        pos=window.channel_list.card_rect(2).center().toPoint(),
    )
    assert step.chain.head.text() == "S2, sulfur-2"
    press(qtbot, window.canvas, Qt.Key.Key_C)
    assert step.selected == step.sheet.row.items[7].id


def test_publishing_from_the_window(
    qtbot: QtBot, window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.go("publish")
    step = publish_of(window)
    out = tmp_path / "out"
    out.mkdir()
    step.set_folder(str(out))
    step.picture.boxes["png16"].click()
    assert window.session.state.publish.formats == ("tiff16", "png16", "jpeg")
    press(qtbot, window.canvas, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: "Written" in step.where.outcome.text(), timeout=120_000)
    assert read_picture(out / "Weaverbird Nebula.tiff").shape == (428, 640)
    assert step.status() == ("full", 0)
    asked: list[str] = []
    answers = iter((QMessageBox.StandardButton.No, QMessageBox.StandardButton.Yes))

    def answered(box: QMessageBox) -> QMessageBox.StandardButton:
        asked.append(box.text())
        return next(answers)

    monkeypatch.setattr(QMessageBox, "exec", answered)
    before = (out / "Weaverbird Nebula.tiff").stat().st_mtime_ns
    step.publish()
    assert "6 of these files exist" in asked[0]
    assert (out / "Weaverbird Nebula.tiff").stat().st_mtime_ns == before
    step.picture.sizes[1280].click()  # type: ignore[attr-defined]
    step.picture.caption.click()
    qtbot.waitUntil(lambda: step.stage.pixels is not None, timeout=120_000)
    step.publish()
    qtbot.waitUntil(
        lambda: (out / "Weaverbird Nebula 1280.jpg").exists() and not window.session.jobs.busy,
        timeout=120_000,
    )
    step.set_folder(str(tmp_path / "none"))
    step.publish()
    assert "folder does not exist" in window.sheets.errors.text
    window.escape()
    step.copy_summary()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    dialog = TemplateDialog(step.session.publishing.summary(), window)
    dialog.text.setPlainText("{target}: {nothing}")
    assert "a field that there is not" in dialog.message.text()
    dialog.text.setPlainText("{target}: {hours_number} h")
    assert dialog.shown.toPlainText().startswith("Weaverbird Nebula: ")
    dialog.keep()
    assert "no name" in dialog.message.text()
    dialog.name.setText("short")
    dialog.keep()
    assert dialog.kept == "short"
    step.summary.changed.emit("form", {"summary": "short"})
    assert step.session.publishing.summary_text() == dialog.shown.toPlainText()
    step.summary.changed.emit("form", {"summary": "markdown"})
    step.copy_summary()
    assert "| O3 | 108 × 300 s | 9 h |" in clipboard.text()


def test_why_keys_search_and_the_three_lights(qtbot: QtBot, window: Window) -> None:
    window.go("blend")
    qtbot.waitUntil(lambda: window.status_bar.advice is not None, timeout=120_000)
    press(qtbot, window.canvas, Qt.Key.Key_W)
    assert window.sheets.why.isVisible()
    window.escape()
    assert not window.sheets.why.isVisible()
    window.sheets.search()
    qtbot.keyClicks(window.sheets.finder.line, "red")
    assert window.sheets.finder.found[0].title == "Red light"
    press(qtbot, window.sheets.finder.line, Qt.Key.Key_Return)
    assert LOOK.theme.red_only
    image = window.grab().toImage()
    colours = [
        image.pixelColor(x, y)
        for x in range(0, image.width(), 7)
        for y in range(0, image.height(), 7)
    ]
    assert max(max(c.green(), c.blue()) for c in colours) < 110  # nothing glares at the telescope
    assert all(c.red() >= max(c.green(), c.blue()) for c in colours)
    press(qtbot, window.canvas, Qt.Key.Key_N)
    assert LOOK.theme.id == "dusk"
    window.sheets.show_keys()
    assert window.sheets.keys.isVisible()
    window.sheets.show_keys()
    assert not window.sheets.keys.isVisible()


def test_every_control_has_a_name_and_a_tooltip(window: Window) -> None:
    for step in window.steps:
        window.go(step.id)
        for widget in (
            *step.inspector.findChildren(QWidget),
            *window.status_bar.findChildren(QWidget),
        ):
            meta = widget.metaObject()
            if (
                not widget.isVisible()
                or meta is None
                or (meta.className() or "").startswith("QScroll")
            ):
                continue
            if (
                isinstance(widget, (QAbstractButton, QComboBox, QLineEdit))
                or widget.focusPolicy() & Qt.FocusPolicy.TabFocus
            ):
                name = widget.accessibleName() or getattr(widget, "text", lambda: "")()
                assert name, widget
                assert widget.toolTip(), (name, widget)
    keys = [c.key for c in window.commands if c.key]
    assert len(keys) == len(set(keys))


def test_about_tells_the_demands_that_are_nearest_to_being_missed(
    qtbot: QtBot, application: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = application.open("new")
    found = [
        Finding("left where stars were", "as stacked", 1.2, 1.5, "sigma"),
        Finding("left where stars were", "turned", 1.4, 1.5, "sigma"),
        Finding("stars found", "as stacked", 0.8, 0.9, "", True),
    ]
    monkeypatch.setattr(session, "selftest", lambda **_told: iter(found))
    next(c for c in window.commands if c.id == "about").run()
    sheet = window.sheets.about
    assert sheet.isVisible()
    qtbot.mouseClick(sheet.begin, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "3 demands, 1 missed" in sheet.words.text(), timeout=120_000)
    shown = [w.text() for w in sheet.findChildren(QLabel) if w.isVisible()]
    assert "1.4 sigma" in shown
    assert "1.2 sigma" not in shown
    assert shown.count("missed") == 1

    def cancelled(**_told: object) -> Iterator[Finding]:
        raise Cancelled
        yield  # a generator, as the real one

    monkeypatch.setattr(session, "selftest", cancelled)
    assert sheet.begin.isEnabled()
    qtbot.mouseClick(sheet.begin, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: sheet.begin.isEnabled(), timeout=120_000)
    assert "about a minute" in sheet.words.text()
    qtbot.keyClick(sheet, Qt.Key.Key_Escape)
    assert not sheet.isVisible()


def test_dropped_files_are_opened_and_bad_ones_told(
    qtbot: QtBot, application: Application, tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    window = application.open("new")
    assert not window.welcome.isHidden()
    bad = tmp_path / "bad.fits"
    bad.write_text("not a picture")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in (demo_files["Ridge_Ha"], bad)])
    window.dropEvent(
        QDropEvent(
            QPointF(50, 50),
            Qt.DropAction.CopyAction,
            data,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
    )
    qtbot.waitUntil(
        lambda: (
            window.session.channels.snapshot.names == ["Ha"] and window.sheets.errors.isVisible()
        ),
        timeout=120_000,
    )
    assert str(bad) in window.sheets.errors.text
    qtbot.waitUntil(lambda: window.session.blend.snapshot.recipe is not None, timeout=120_000)
    qtbot.waitUntil(lambda: window.canvas.shape_shown == (428, 640), timeout=120_000)
    row = next(iter(channels_of(window).stacks.rows.values()))
    remove = next(
        b for b in row.findChildren(QAbstractButton) if b.accessibleName().startswith("remove")
    )
    qtbot.mouseClick(remove, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.canvas.shape_shown is None, timeout=120_000)
    window.undo()
    qtbot.waitUntil(lambda: window.canvas.shape_shown is not None, timeout=120_000)


def test_a_stopped_preparation_can_be_asked_for_again(
    qtbot: QtBot, application: Application, demo_files: dict[str, Path]
) -> None:
    window = application.open("new")
    stopped: list[str] = []

    def stop(report: JobReport) -> None:
        if "measuring" in report.text and not stopped:
            stopped.append(report.text)
            window.session.jobs.cancel()

    window.session.jobs.reported.connect(stop)
    window.session.channels.open_files([demo_files["Ridge_Ha"]])
    qtbot.waitUntil(lambda: bool(stopped) and not window.session.jobs.busy, timeout=120_000)
    qtbot.waitUntil(window.welcome.again_button.isVisible, timeout=5000)
    assert window.welcome.head.text() == "The channels are not prepared"
    assert "Cancelled" in window.status_bar.sentence.text
    qtbot.mouseClick(window.welcome.again_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.session.channels.snapshot.names == ["Ha"], timeout=120_000)
    qtbot.waitUntil(lambda: window.panels.stage.currentWidget() is window.canvas, timeout=5000)


def test_projects_change_in_one_window_and_are_never_open_twice(
    qtbot: QtBot, application: Application, window: Window, tmp_path: Path
) -> None:
    first = window.session.document.folder
    with pytest.raises(ProjectError, match="no such folder"):
        application.open(tmp_path / "none.bichromus")
    (tmp_path / "x").mkdir()
    shutil.copy(__file__, tmp_path / "x")
    with pytest.raises(ProjectError, match="no project in it"):
        application.open(tmp_path / "x")
    assert application.window is window
    other = application.open("new")
    assert other is not window
    assert other.session.document.folder != first
    assert [a.text() for a in other.head.menu().actions()][-1] == first.stem
    again = application.open(first)  # released by the first window
    qtbot.waitUntil(lambda: again.session.channels.snapshot.names != [], timeout=120_000)
    other.take_paths([tmp_path])


def test_a_view_after_a_move_is_never_older_than_the_one_shown(
    qtbot: QtBot, window: Window
) -> None:
    window.go("blend")
    qtbot.waitUntil(lambda: window.canvas.answered > 0, timeout=120_000)
    from bichromus.core.numerics.sampling import View
    from bichromus.workspace.viewing.request import Request

    shown = window.canvas.answered
    before = picture(window)
    late = Request(shown - 1, View(0, 0, 1, 4, 4))
    window.canvas.show_answer(late, np.zeros((4, 4, 3), np.uint8))
    window.canvas.show_answer(Request(shown + 50, late.view, "Ha"), np.zeros((4, 4, 3), np.uint8))
    assert picture(window) is before


def test_the_chain_shows_switches_and_undoes_its_steps(qtbot: QtBot, window: Window) -> None:
    step, session = channels_of(window), window.session
    window.go("channels")
    window.select("O3")
    assert step.selected == "pool@O3"
    assert "pooled, 2 stacks" in window.canvas.caption[1]  # type: ignore[index]
    assert step.chain.rows["align"].words.text() == "on the grid already"
    assert "best alone" in step.chain.rows["pool"].words.text()
    # one key opens the steps in turn; what the open one did is seen, and held away with Space
    for name in ("extract", "align", "gradient", "pool"):
        press(qtbot, window.canvas, Qt.Key.Key_J)
        assert step.chain.current == name
        assert step.chain.panels[name].isVisible()
    qtbot.waitUntil(lambda: window.canvas.pixels is not None, timeout=120_000)
    window.canvas.setFocus()
    qtbot.keyPress(window.canvas, Qt.Key.Key_Space)
    assert window.canvas.asked == (session.channels.snapshot.of("O3")[1].id, "")
    qtbot.keyRelease(window.canvas, Qt.Key.Key_Space)
    assert window.canvas.asked == ("pool@O3", "")
    # of one origin: the height lines of its gradient, what counts as sky, and the channel
    origin = next(p.id for p in session.channels.snapshot.of("Ha") if "Balcony" in p.label)
    step.show_origin(origin)
    step.chain.toggle("gradient")
    press(qtbot, window.canvas, Qt.Key.Key_V)
    assert (window.canvas.alone, window.canvas.view_mode) == (origin, "heights")
    note = session.channels.snapshot.origins[origin].notes.gradient
    assert note is not None
    heights_follow_the_gradient(window.canvas.marks, note)
    qtbot.waitUntil(lambda: window.canvas.pixels is not None, timeout=120_000)
    raw = picture(window).copy()
    press(qtbot, window.canvas, Qt.Key.Key_V)
    assert window.canvas.view_mode == "sky"
    assert not [m for m in window.canvas.marks if m.kind == "line"]
    qtbot.waitUntil(lambda: not np.array_equal(picture(window), raw), timeout=120_000)
    press(qtbot, window.canvas, Qt.Key.Key_V)
    assert window.canvas.view_mode == ""
    press(qtbot, window.canvas, Qt.Key.Key_I)
    qtbot.waitUntil(
        lambda: session.state.preparation.gradient == {"Ha": PLANE} and not session.jobs.busy,
        timeout=120_000,
    )
    qtbot.waitUntil(
        lambda: step.chain.rows["gradient"].words.text() == "only a plane is taken off",
        timeout=120_000,
    )
    window.undo()
    qtbot.waitUntil(
        lambda: session.state.preparation.gradient == {} and not session.jobs.busy, timeout=120_000
    )


def test_what_must_not_count_as_sky_is_drawn(qtbot: QtBot, window: Window) -> None:
    step, session = channels_of(window), window.session
    window.go("channels")
    window.select("R")
    step.draw_sky()
    assert window.canvas.drawing
    middle = window.canvas.rect().center()
    qtbot.mousePress(window.canvas, Qt.MouseButton.LeftButton, pos=middle)
    qtbot.mouseMove(window.canvas, middle + QPoint(40, 10))
    qtbot.mouseRelease(window.canvas, Qt.MouseButton.LeftButton, pos=middle + QPoint(40, 10))
    qtbot.waitUntil(
        lambda: bool(session.state.preparation.not_sky.get("R")) and not session.jobs.busy,
        timeout=120_000,
    )
    before = len(session.state.preparation.not_sky["R"])
    x, y, radius = session.state.preparation.not_sky["R"][0]
    assert (x, y) == pytest.approx((320, 214), abs=4)
    assert radius == pytest.approx(18 / (window.canvas.zoom or 1), rel=0.01)
    press(qtbot, window.canvas, Qt.Key.Key_Return)  # the same without a pointer
    qtbot.waitUntil(
        lambda: len(session.state.preparation.not_sky["R"]) == before + 1 and not session.jobs.busy,
        timeout=120_000,
    )
    assert [m.kind for m in window.canvas.marks] == ["disc"] * (before + 1)
    qtbot.mouseClick(step.gradient.clear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: session.state.preparation.not_sky == {} and not session.jobs.busy, timeout=120_000
    )
    window.go("blend")
    assert not window.canvas.drawing
    assert window.canvas.marks == ()


def heights_follow_the_gradient(marks: tuple[Mark, ...], note: GradientNote) -> None:
    """Along each piece of a line the gradient is level, and lines lie a step apart."""
    lines = [m for m in marks if m.kind == "line"]
    assert len(lines) > 40
    one = note.model.at(np.array([m.x for m in lines]), np.array([m.y for m in lines]))
    x, y = np.array([m.x + m.dx for m in lines]), np.array([m.y + m.dy for m in lines])
    span = float(np.ptp(one))
    assert note.model.at(x, y) == pytest.approx(one, abs=0.01 * span)
    heights = np.sort(one)
    gaps = np.diff(heights)[np.diff(heights) > 0.03 * span]
    assert 2 <= len(gaps) <= 9
    assert gaps == pytest.approx(np.median(gaps), rel=0.15)


def test_five_crops_and_the_last_channel_in_channels(qtbot: QtBot, window: Window) -> None:
    step = window.step_named("channels")
    assert isinstance(step, ChannelsStep)
    window.go("channels")
    ids = [i.id for i in step.sheet.row.items]
    press(qtbot, window.canvas, Qt.Key.Key_E)
    assert "Look at another channel first" in window.status_bar.sentence.text
    step.show_origin(ids[0])
    step.show_origin(ids[2])
    press(qtbot, window.canvas, Qt.Key.Key_E)
    assert step.selected == ids[0]
    press(qtbot, window.canvas, Qt.Key.Key_E)
    assert step.selected == ids[2]
    press(qtbot, window.canvas, Qt.Key.Key_T)
    assert window.canvas.crops
    plane = window.session.channels.snapshot.origins[ids[2]].levels[0]
    qtbot.waitUntil(
        lambda: (
            window.canvas.pixels is not None
            and window.canvas.pixels.shape[:2] == (window.canvas.height(), window.canvas.width())
        ),
        timeout=120_000,
    )
    sheet = picture(window)
    upper, *_, middle = crops_on(window.canvas.width(), window.canvas.height())
    corner = sheet[: middle.y - GAP_PX, : upper.width, 0].astype(float)
    shown = np.asarray(plane[: corner.shape[0], : corner.shape[1]])
    assert spearmanr(corner[: shown.shape[0], : shown.shape[1]].ravel(), shown.ravel())[0] > 0.9
    assert not sheet[: middle.y - GAP_PX, upper.width : upper.width + GAP_PX].any()
    inner = sheet[middle.y : middle.y + middle.height, middle.x : middle.x + middle.width, 0]
    at = middle.view(plane.shape)
    amid = plane[int(at.y0) + 1 :, int(at.x0) + 1 :][: middle.height - 2, : middle.width - 2]
    there = inner[1:-1, 1:-1][: amid.shape[0], : amid.shape[1]].astype(float)
    assert spearmanr(there.ravel(), np.asarray(amid).ravel())[0] > 0.9
    qtbot.waitUntil(lambda: len(window.canvas.crop_stars) == 5, timeout=120_000)
    width = window.session.channels.snapshot.origins[ids[2]].measure.stars.fwhm_px
    told = [s.fwhm_px for s in window.canvas.crop_stars if s is not None]
    assert told == pytest.approx([width] * len(told), rel=0.3)
    assert told
    window.go("blend")
    assert not window.canvas.crops

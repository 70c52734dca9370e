"""The small controls: one value each, told once a gesture, by mouse and by keys."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from bichromus.app.canvas.camera import MOST_ZOOM, Camera, fitting
from bichromus.app.shell.channel_list import Card, ChannelList
from bichromus.app.shell.route import Route, StepMark
from bichromus.app.shell.sheets import Command, ErrorSheet, Finder, WhySheet
from bichromus.app.shell.status_bar import StatusBar
from bichromus.app.theme.look import LOOK, THEMES, load_fonts, tag_colour
from bichromus.app.widgets.dial import BalanceDial
from bichromus.app.widgets.fold import Figures, Fold
from bichromus.app.widgets.mixtable import MixTable
from bichromus.app.widgets.paint import image_of
from bichromus.app.widgets.sheet import Item, Sheet
from bichromus.app.widgets.slider import ValueSlider
from bichromus.app.widgets.text import clock_text, seconds_text, snr_text, value_text
from bichromus.core.advise import Advice
from bichromus.core.model.errors import InputError
from bichromus.workspace.work.jobs import JobReport


@pytest.fixture(autouse=True)
def look(qtbot: QtBot) -> Iterator[None]:
    assert qtbot is not None
    load_fonts()
    LOOK.use("dusk")
    yield
    LOOK.use("dusk")


def shown(qtbot: QtBot, widget: QWidget, width: int = 300, height: int | None = None) -> QWidget:
    qtbot.addWidget(widget)
    widget.resize(width, height or widget.sizeHint().height())
    widget.show()
    return widget


def test_a_slider_tells_moves_and_one_end(qtbot: QtBot) -> None:
    slider = ValueSlider("strength", 0.0, 10.0, 4.0, "tip", 0.5)
    shown(qtbot, slider)
    moves: list[float] = []
    ends: list[float] = []
    slider.moved.connect(moves.append)
    slider.settled.connect(ends.append)
    left, right = (round(v) for v in slider.rail())
    qtbot.mousePress(slider, Qt.MouseButton.LeftButton, pos=QPoint(left, 12))
    slider.set_value(7.0)  # ignored: a gesture is in hand
    qtbot.mouseMove(slider, QPoint((left + right) // 2, 12))
    qtbot.mouseMove(slider, QPoint(right + 50, 12))
    qtbot.mouseRelease(slider, Qt.MouseButton.LeftButton, pos=QPoint(right + 50, 12))
    assert moves == [0.0, 5.0, 10.0]
    assert ends == [10.0]
    slider.setFocus()
    for _ in range(4):
        qtbot.keyClick(slider, Qt.Key.Key_Left)
    assert ends == [10.0]
    qtbot.waitUntil(lambda: ends == [10.0, 8.0], timeout=2000)
    qtbot.keyClick(slider, Qt.Key.Key_Home)
    slider.finish()
    slider.finish()
    assert ends == [10.0, 8.0, 4.0]
    wheel = QWheelEvent(
        QPointF(100, 10),
        QPointF(100, 10),
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(slider, wheel)
    assert slider.value == 4.5
    slider.finish()
    qtbot.mouseDClick(slider, Qt.MouseButton.LeftButton, pos=QPoint(right, 12))
    assert slider.value == 4.0
    slider.set_value(6.0)
    assert slider.value == 6.0
    assert "4.00" in slider.toolTip()


def test_the_dial_follows_its_arc_and_keeps_within(qtbot: QtBot) -> None:
    dial = BalanceDial()
    shown(qtbot, dial)
    ends: list[float] = []
    dial.settled.connect(ends.append)
    for value in (0.0, 0.25, 0.5, 1.0):
        point = dial.point_of(value).toPoint()
        qtbot.mousePress(dial, Qt.MouseButton.LeftButton, pos=point)
        qtbot.mouseRelease(dial, Qt.MouseButton.LeftButton, pos=point)
        assert dial.value == pytest.approx(value, abs=0.02)
    dial.nudge(0.5)
    assert dial.value == 1.0
    dial.setFocus()
    qtbot.keyClick(dial, Qt.Key.Key_Left)
    dial.finish()
    assert ends[-1] == 0.98
    dial.set_value(0.3, 0.6)
    assert dial.value == 0.3
    assert not dial.grab().isNull()


def test_the_mix_table_drags_and_bounds(qtbot: QtBot) -> None:
    table = MixTable()
    shown(qtbot, table, 300, 140)
    table.show_mix(
        ["Ha", "O3"],
        {"R": {"Ha": 1.0}, "G": {}, "B": {"O3": 1.0}},
        {"R": 0.01, "G": 0.02, "B": 0.03},
    )
    table.resize(300, table.sizeHint().height())
    ends: list[tuple[str, str, float]] = []
    table.settled.connect(lambda o, c, w: ends.append((o, c, w)))
    cell = table.cell_rect(1, 1).center().toPoint()
    qtbot.mousePress(table, Qt.MouseButton.LeftButton, pos=cell)
    qtbot.mouseMove(table, cell + QPoint(40, 0))
    qtbot.mouseRelease(table, Qt.MouseButton.LeftButton, pos=cell + QPoint(40, 0))
    assert ends[-1][:2] == ("G", "O3")
    assert 0 < ends[-1][2] <= 2
    table.setFocus()
    qtbot.keyClick(table, Qt.Key.Key_Up)
    qtbot.keyClicks(table, "9")
    qtbot.keyClick(table, Qt.Key.Key_Return)
    assert abs(ends[-1][2]) <= 2
    qtbot.keyClicks(table, "-,5")
    qtbot.keyClick(table, Qt.Key.Key_Escape)
    count = len(ends)
    qtbot.keyClick(table, Qt.Key.Key_Return)
    assert len(ends) == count  # what was typed is forgotten


def test_the_route_and_the_ledger_step_by_keys(qtbot: QtBot) -> None:
    route = Route()
    shown(qtbot, route, 600)
    stations = [
        StepMark("a", "Alpha", "full"),
        StepMark("b", "Beta", "half", 3),
        StepMark("c", "Gamma"),
    ]
    chosen: list[str] = []
    route.chosen.connect(lambda i: (chosen.append(i), route.show_steps(stations, i)))
    route.show_steps(stations, "a")
    route.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Left):
        qtbot.keyClick(route, key)
    assert chosen == ["b", "c", "c", "b"]
    amber = QApplication.instance() and LOOK.theme.accent
    image = route.grab().toImage()
    assert any(
        image.pixelColor(x, 10).name() == amber for x in range(image.width())
    )  # the count that wants a decision
    channel_list = ChannelList()
    shown(qtbot, channel_list)
    cards = [
        Card(n, "1h 00m", "10.0", 0.5, "stars", "2.0 px", "H", "tip", n == "O3")
        for n in ("Ha", "O3", "S2")
    ]
    picked: list[str] = []
    channel_list.chosen.connect(lambda n: (picked.append(n), channel_list.show_cards(cards, n)))
    channel_list.show_cards(cards, "Ha")
    channel_list.setFocus()
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Up):
        qtbot.keyClick(channel_list, key)
    assert picked == ["O3", "S2", "S2", "O3"]
    channel_list.show_cards([], None)
    assert not channel_list.grab().isNull()


def test_the_foot_tells_advice_jobs_and_passing_words(qtbot: QtBot) -> None:
    status_bar = StatusBar()
    shown(qtbot, status_bar, 900)
    status_bar.show_advice(Advice("act", "Shoot O3.", (("a", "1"),), "why"))
    assert status_bar.sentence.text == "Shoot O3."
    assert status_bar.why_button.isVisible()
    status_bar.say("Undone.", 60)
    status_bar.show_advice(Advice("good", "All is well."))
    assert status_bar.sentence.text == "Undone."
    qtbot.waitUntil(lambda: status_bar.sentence.text == "All is well.", timeout=2000)
    stops: list[bool] = []
    status_bar.cancel.connect(lambda: stops.append(True))
    status_bar.show_job(JobReport("preparing", 0.42, "measuring Ha", 75.0))
    assert "measuring Ha  42 %, 75 s left" in status_bar.job_words.text()
    qtbot.mouseClick(status_bar.cancel_button, Qt.MouseButton.LeftButton)
    assert stops == [True]
    status_bar.show_job(None)
    assert not status_bar.cancel_button.isVisible()
    status_bar.show_advice(None)
    assert not status_bar.why_button.isVisible()


def test_sheets_say_why_what_went_wrong_and_find_commands(qtbot: QtBot) -> None:
    window = QWidget()
    shown(qtbot, window, 900, 600)
    why = WhySheet(window)
    why.show_advice(Advice("act", "Shoot O3.", (("SNR", "9"),), "formula"))
    why.open_at(10, 500)
    assert why.isVisible()
    qtbot.keyClick(why, Qt.Key.Key_Escape)
    assert not why.isVisible()
    errors = ErrorSheet(window)
    errors.show_errors(
        [InputError("It broke", why="of frost", do="Warm it", file=f"{n}.fits") for n in range(9)]
    )
    assert "9 things" in errors.title.text()
    assert "and 3 more" in errors.text
    done: list[str] = []
    ready = [True]
    finder = Finder(
        window,
        [
            Command("a", "Fit the picture", "F", lambda: done.append("a"), "zoom"),
            Command("b", "Publish", "", lambda: done.append("b"), "export", lambda: ready[0]),
        ],
    )
    finder.ask(10, 10)
    qtbot.keyClicks(finder.line, "zoom")
    assert [c.id for c in finder.found] == ["a"]
    finder.line.clear()
    qtbot.keyClick(finder.line, Qt.Key.Key_Down)
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert done == ["b"]
    ready[0] = False
    finder.ask(10, 10)
    assert [c.id for c in finder.found] == ["a"]
    qtbot.keyClick(finder.line, Qt.Key.Key_Escape)
    assert not finder.isVisible()


def test_a_sheet_of_pictures_steps_and_shows_what_it_gets(qtbot: QtBot) -> None:
    sheet = Sheet("palettes")
    shown(qtbot, sheet, 500, 130)
    chosen: list[str] = []
    sheet.chosen.connect(chosen.append)
    items = [Item(n, n.upper(), "", None, f"tip {n}") for n in "abc"]
    sheet.set_items(items, "a")
    sheet.put("b", np.full((20, 30, 3), 200, np.uint8))
    sheet.row.setFocus()
    qtbot.keyClick(sheet.row, Qt.Key.Key_Right)
    sheet.mark("b")
    qtbot.keyClick(sheet.row, Qt.Key.Key_Right)
    qtbot.mouseMove(sheet.row, sheet.row.rect_of(1).center().toPoint())
    assert chosen == ["b", "c"]
    bright = sheet.row.grab().toImage().pixelColor(sheet.row.rect_of(1).center().toPoint())
    assert bright.lightness() > 150


def test_folds_close_and_figures_keep_their_labels(qtbot: QtBot) -> None:
    fold = Fold("Stretch")
    shown(qtbot, fold)
    figures = Figures()
    fold.add(figures)
    figures.show_rows([("a", "", "1", "tip"), ("b", "r", "2", "tip")])
    first = figures.rows[0][0]
    figures.show_rows([("c", "", "3", "other")])
    assert figures.rows[0][0] is first
    assert first.text() == "c"
    assert figures.rows[1][0].isHidden()
    qtbot.mouseClick(fold.head, Qt.MouseButton.LeftButton)
    assert not figures.isVisible()
    fold.set_title("Curve")
    assert fold.head.accessibleName() == "Curve"


@pytest.mark.parametrize("theme", list(THEMES))
def test_every_theme_is_legible_and_red_light_is_red(theme: str) -> None:
    def luminance(code: str) -> float:
        parts = [int(code[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    t = THEMES[theme]
    light, dark = sorted((luminance(t.text), luminance(t.panel)), reverse=True)
    assert (light + 0.05) / (dark + 0.05) >= (4.5 if not t.red_only else 3.0)
    LOOK.use(theme)
    image = image_of(np.full((4, 4, 3), [30, 200, 220], np.uint8))
    colour = image.pixelColor(1, 1)
    assert (colour.green() == colour.blue() == 0) == t.red_only
    assert len({tag_colour(n).name() for n in ("Ha", "O3", "S2", "R", "G", "B")}) == 6


def test_the_camera_keeps_what_is_under_the_pointer() -> None:
    shape = (400, 600)
    camera = fitting(shape, 900, 500)
    assert camera.zoom == 1.25
    before = camera.to_picture(200, 120, 900, 500)
    closer = camera.zoomed(3, 200, 120, 900, 500, 0.1)
    assert closer.to_picture(200, 120, 900, 500) == pytest.approx(before)
    assert camera.zoomed(1e9, 0, 0, 900, 500, 0.1).zoom == MOST_ZOOM
    assert camera.seen(shape, 900, 500) == (75, 0, 825, 500)
    assert Camera(5000, 5000, 1).seen(shape, 900, 500) is None
    assert Camera(-50, 900, 1).held(shape) == Camera(0, 400, 1)
    assert camera.moved(10, -5).to_picture(10, -5, 900, 500) == pytest.approx(
        camera.to_picture(0, 0, 900, 500)
    )


def test_figures_in_words() -> None:
    assert [value_text(v) for v in (65535, 12.345, 0.1234, 3.6e-4, -4.2e-6)] == [
        "65,535",
        "12.35",
        "0.1234",
        "360e-6",
        "−4.2e-6",
    ]
    assert [snr_text(v) for v in (None, 9.84, 203.4)] == ["–", "9.8", "203"]
    assert [clock_text(v) for v in (None, 0.5, 6.333)] == ["", "0h 30m", "6h 20m"]
    assert [seconds_text(v) for v in (0.2, 42, 200)] == ["1 s", "42 s", "3 min"]

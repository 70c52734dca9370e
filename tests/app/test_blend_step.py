"""The inspector of Blend: sections, stars, lines on top, curve, masks and crop, by hand."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot
from standing import stands

from bichromus.app.canvas.canvas import Canvas
from bichromus.app.shell.window import Window
from bichromus.app.steps.blend import BlendStep


def blend_of(window: Window) -> BlendStep:
    window.go("blend")
    step = window.step_named("blend")
    assert isinstance(step, BlendStep)
    return step


def press(qtbot: QtBot, widget: QWidget, key: Qt.Key) -> None:
    qtbot.keyClick(widget, key)


def at(window: Window, x: float, y: float) -> QPoint:
    """Where a pixel of the picture lies on the stage."""
    return window.canvas._screen(x, y).toPoint()


def drag(qtbot: QtBot, widget: QWidget, start: QPoint, end: QPoint) -> None:
    qtbot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        step = QPointF(start) + (QPointF(end) - QPointF(start)) * share
        qtbot.mouseMove(widget, step.toPoint())
    qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end)


def settled(qtbot: QtBot, window: Window) -> None:
    qtbot.waitUntil(lambda: stands(window), timeout=120_000)


def test_sections_say_their_state_and_no_more_than_two_are_open(
    qtbot: QtBot, window: Window
) -> None:
    step = blend_of(window)
    assert [s.title for s in step.sections.all] == [
        *("Mix", "Balance", "Stars", "Luminance", "Tone", "Colour", "Masks", "Finish")
    ]
    for section in step.sections.all:
        qtbot.mouseClick(section.head, Qt.MouseButton.LeftButton)
        if not section.is_open:
            qtbot.mouseClick(section.head, Qt.MouseButton.LeftButton)
        assert section.is_open
        assert sum(s.is_open for s in step.sections.all) <= 2
        assert section.note.text()
    assert step.stars.note.text() == "from R, G and B, size 0.70"
    assert step.luminance.note.text() == "that of the mix"
    assert step.finishing.note.text() == "whole, 640 × 428"
    for section in step.sections.all:
        for widget in section.findChildren(QWidget):
            if widget.focusPolicy() & Qt.FocusPolicy.StrongFocus and widget.isVisible():
                assert widget.accessibleName() or widget.toolTip(), widget


def test_stars_come_from_where_they_are_asked_from(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    step.sections.open(step.stars)
    box = step.stars.source.box
    words = [box.itemText(n) for n in range(box.count())]
    assert words == [
        *("the best there are", "red, green and blue", "the lines", "none"),
        "left in the channels",
    ]
    before = np.array(window.canvas.pixels)
    box.setCurrentIndex(3)
    box.activated.emit(3)
    qtbot.waitUntil(lambda: step.stars.note.text() == "none", timeout=120_000)
    assert not step.stars.values[0].isEnabled()
    qtbot.waitUntil(lambda: not np.array_equal(window.canvas.pixels, before), timeout=120_000)
    window.undo()
    qtbot.waitUntil(lambda: step.stars.note.text().startswith("from R"), timeout=120_000)


def test_lines_lie_on_broadband_and_say_how_much(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    window.session.blend.set_mapping("ha-rgb")
    qtbot.waitUntil(lambda: step.mix.note.text() == "Ha on RGB", timeout=120_000)
    assert step.mix.amounts["Ha"].isVisible()
    assert not step.mix.amounts["Hb"].isVisible()
    assert "stars" in step.mix.white.words.text()
    step.mix.amounts["Ha"].slider.setFocus()
    press(qtbot, step.mix.amounts["Ha"].slider, Qt.Key.Key_PageUp)
    lift = window.session.document
    qtbot.waitUntil(lambda: lift.saved.blend.lift.of("Ha") == pytest.approx(1.1), timeout=120_000)
    assert lift.saved.blend.lift.of("O3") == 1.0
    assert step.figure("Ha") == ("in the blend", "on top")


def test_the_curve_is_drawn_and_taken_back(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    tone = step.sections.all[4]
    step.sections.open(tone)
    curve = tone.curve  # type: ignore[attr-defined]
    start = curve.place_of((0.5, 0.5)).toPoint()
    drag(qtbot, curve, start, start + QPoint(0, -20))
    saved = window.session.document
    qtbot.waitUntil(lambda: len(saved.saved.blend.tone.points) == 1, timeout=120_000)
    assert saved.saved.blend.tone.points[0][1] > 0.55
    assert tone.note.text() == "curve"
    press(qtbot, curve, Qt.Key.Key_Delete)
    qtbot.waitUntil(lambda: saved.saved.blend.tone.points == (), timeout=120_000)
    window.undo()
    qtbot.waitUntil(lambda: len(curve.points) == 1, timeout=120_000)


def test_a_mask_is_told_in_words_drawn_and_seen(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    masks = step.masks
    step.sections.open(masks)
    qtbot.mouseClick(masks.new[3], Qt.MouseButton.LeftButton)
    assert masks.draw_add.isChecked()
    assert window.canvas.mask_shown == 0
    drag(qtbot, window.canvas, at(window, 300, 200), at(window, 360, 200))
    saved = window.session.document
    qtbot.waitUntil(lambda: len(saved.saved.blend.masks[0].area) > 1, timeout=120_000)
    stroke = saved.saved.blend.masks[0].area[0]
    assert (stroke.x, stroke.y) == pytest.approx((300, 200), abs=3)
    qtbot.keyClick(window.canvas, Qt.Key.Key_D, Qt.KeyboardModifier.ShiftModifier)
    assert not masks.draw_add.isChecked()
    masks.sliders["lightness"].setFocus()
    press(qtbot, masks.sliders["lightness"], Qt.Key.Key_PageUp)
    qtbot.waitUntil(lambda: saved.saved.blend.masks[0].lightness > 0, timeout=120_000)
    assert masks.list.item(0).text() == "part drawn, brighter"  # type: ignore[union-attr]
    window.undo()
    window.undo()
    qtbot.waitUntil(lambda: saved.saved.blend.masks[0].area == (), timeout=120_000)
    qtbot.mouseClick(masks.new[0], Qt.MouseButton.LeftButton)
    assert masks.list.count() == 2
    assert masks.note.text() == "2 masks"
    qtbot.mouseClick(masks.remove, Qt.MouseButton.LeftButton)
    assert len(saved.saved.blend.masks) == 1
    window.go("publish")
    assert window.canvas.mask_shown == -1


def test_a_crop_is_dragged_taken_and_undone(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    saved = window.session.document
    qtbot.keyClick(window.canvas, Qt.Key.Key_F, Qt.KeyboardModifier.ShiftModifier)
    assert step.finishing.is_open
    assert window.canvas.frame is not None
    drag(qtbot, window.canvas, at(window, 0, 0), at(window, 100, 60))
    assert window.canvas.frame.rectangle == pytest.approx((100, 60, 640, 428), abs=3)
    step.finishing.ratio.setCurrentIndex(2)
    step.finishing.ratio.activated.emit(2)
    x0, y0, x1, y1 = window.canvas.frame.rectangle
    assert x1 - x0 == pytest.approx(y1 - y0, abs=1)  # square
    press(qtbot, window.canvas, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: saved.saved.blend.finish.crop is not None, timeout=120_000)
    assert window.canvas.frame is None
    qtbot.waitUntil(lambda: window.canvas.shape_shown == (y1 - y0, x1 - x0), timeout=120_000)
    # the probe tells pixels of the grid, and a channel held alone lies as the picture does
    qtbot.waitUntil(lambda: window.canvas.pixels is not None, timeout=120_000)
    window.canvas.pointed.emit(10, 12)
    assert window.status_bar.probe.text().endswith(f"{x0 + 10}, {y0 + 12}")
    window.hold("O3")
    assert window.canvas.shape_shown == (y1 - y0, x1 - x0)
    window.release("O3")
    step.finishing.turn_by(90)
    step.finishing.flip_across()
    assert saved.saved.blend.finish.turn == 90
    qtbot.waitUntil(lambda: window.canvas.shape_shown == (x1 - x0, y1 - y0), timeout=120_000)
    assert "cropped, flipped, turned +90°" in step.finishing.note.text()
    qtbot.keyClick(window.canvas, Qt.Key.Key_F, Qt.KeyboardModifier.ShiftModifier)
    assert window.canvas.shape_shown == (428, 640)  # the frame lies on the whole
    window.go("channels")
    assert window.canvas.frame is None
    blend_of(window).finishing.undo_all()
    qtbot.waitUntil(lambda: window.canvas.shape_shown == (428, 640), timeout=120_000)
    settled(qtbot, window)


def test_north_goes_up_where_the_stacks_know_it(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    window.session.blend.turn_north_up()
    saved = window.session.document
    # the small demo's stacks stand with north down: rows run from the top
    qtbot.waitUntil(
        lambda: (saved.saved.blend.finish.flip, saved.saved.blend.finish.turn) != ("", 0.0),
        timeout=120_000,
    )
    qtbot.waitUntil(lambda: "whole" not in step.finishing.note.text(), timeout=120_000)


def test_white_is_drawn_or_typed_and_where_lines_act_is_seen(qtbot: QtBot, window: Window) -> None:
    step = blend_of(window)
    blend, saved = window.session.blend, window.session.document
    blend.set_mapping("ha-rgb")
    settled(qtbot, window)
    assert blend.snapshot.recipe is not None
    by_stars = blend.snapshot.recipe.figures.white.gains
    white = step.mix.white
    white.by.put("region")
    assert saved.saved.blend.white.by == "stars"  # there is no region yet
    assert window.canvas.frame is not None
    assert not step.finishing.is_cropping
    drag(qtbot, window.canvas, at(window, 320, 214), at(window, 340, 224))
    press(qtbot, window.canvas, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: saved.saved.blend.white.by == "region", timeout=120_000)
    assert saved.saved.blend.finish.crop is None  # the frame was not a crop's
    assert saved.saved.blend.white.region is not None
    settled(qtbot, window)
    by_region = blend.snapshot.recipe.figures.white.gains
    assert by_region != by_stars
    assert "region drawn" in white.words.text()
    white.by.put("typed")
    qtbot.waitUntil(lambda: "typed" in white.words.text(), timeout=120_000)
    assert saved.saved.blend.white.gains == by_region  # nothing jumps
    press(qtbot, white.gains[0].slider, Qt.Key.Key_PageUp)
    qtbot.waitUntil(lambda: saved.saved.blend.white.gains[0] > by_region[0], timeout=120_000)
    settled(qtbot, window)
    bright = pixels(window).mean()
    step.mix.where.click()
    qtbot.waitUntil(lambda: pixels(window).mean() < 0.95 * bright, timeout=120_000)
    assert step.mix.where.text() == "back to the picture"
    window.go("publish")
    assert not window.canvas.lines_shown
    for _ in range(4):
        window.undo()
    assert saved.saved.blend.white.by == "stars"


def pixels(window: Window) -> np.ndarray:
    found = window.canvas.pixels
    assert found is not None
    return found


def test_a_slow_picture_comes_coarsely_while_a_hand_moves(qtbot: QtBot) -> None:
    answered = []
    canvas = Canvas()
    qtbot.addWidget(canvas)
    canvas.resize(300, 200)
    canvas.set_shape((2000, 3000))
    canvas.wanted.connect(answered.append)
    canvas.show()

    def answer(pace_s: float) -> None:
        asked = answered[-1]
        number, begun = canvas._pace._asked
        if number == asked.id:
            canvas._pace._asked = (number, begun - pace_s)
        canvas.show_answer(asked, np.zeros((asked.view.height, asked.view.width, 3), np.uint8))

    canvas.ask()
    whole = answered[-1].view
    answer(0.0)
    canvas._pace.slow = False
    canvas.ask(moving=True)
    assert answered[-1].view == whole
    answer(10.0)
    canvas.ask(moving=True)
    coarse = answered[-1].view
    assert coarse.step == 2 * whole.step
    assert coarse.width == pytest.approx(whole.width / 2, abs=1)
    answer(10.0)
    qtbot.waitUntil(lambda: answered[-1].view == whole, timeout=120_000)  # it rests
    answer(0.0)
    canvas.ask(moving=True)
    assert answered[-1].view.step == whole.step or canvas._pace.slow

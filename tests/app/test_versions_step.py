"""The Versions step in the real window: keep, pick, compare, continue, take off the wall."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.steps.versions.pair import difference
from bichromus.app.steps.versions.stage import EMPTY, PAIR, WALL
from bichromus.app.steps.versions.step import VersionsStep
from bichromus.core.numerics.sampling import whole_view


@pytest.fixture
def step(qtbot: QtBot, window: Window) -> VersionsStep:
    """Two versions on the wall: the palette, and a bicolour."""
    found = window.step_named("versions")
    assert isinstance(found, VersionsStep)
    window.go("versions")
    assert found.stage.currentIndex() == EMPTY
    for number, mapping in enumerate(("hubble-order", "bicolour"), 1):
        window.session.blend.set_mapping(mapping)
        qtbot.waitUntil(
            lambda wanted=mapping: (
                window.session.blend.snapshot.recipe is not None
                and window.session.blend.snapshot.recipe.settings.mapping == wanted
                and not window.session.previews.busy
                and not window.session.jobs.busy
            ),
            timeout=120_000,
        )
        keep = next(c for c in window.commands if c.key == "Ctrl+D")
        keep.run()
        qtbot.waitUntil(
            lambda count=number: len(found.stage.wall.room.hung) == count, timeout=120_000
        )
    return found


def window_of(step: VersionsStep) -> Window:
    window = step.context.window
    assert isinstance(window, Window)
    return window


def test_keys_do_one_thing_each(window: Window) -> None:
    keys = [c.key for c in window.commands if c.key]
    assert sorted(keys) == sorted(set(keys))
    assert [c.key for c in window.commands if c.id in ("go-versions", "go-publish")] == ["6", "7"]


def test_versions_hang_are_compared_named_continued_and_taken_off(
    qtbot: QtBot, step: VersionsStep, tmp_path: Path
) -> None:
    window, wall, pair = window_of(step), step.stage.wall, step.stage.pair
    assert step.stage.currentIndex() == WALL
    hung = wall.room.hung
    assert [h.name for h in hung] == ["Hubble palette, S-H-O", "Bicolour, H-O-O"]
    assert hung[1].lines[0].startswith("without S2")
    qtbot.waitUntil(lambda: all(h.picture in wall.room._pictures for h in hung), timeout=120_000)
    room = wall.room
    room.setFocus()
    for index in (0, 1):
        room.look_at(hung[index].name)
        qtbot.keyClick(room, Qt.Key.Key_Space)
    assert wall.picks == [h.name for h in hung]
    assert "without S2" in step.pair_fold.words.text()
    window.session.blend.set_settings("stars", stars={"source": "none"})  # theirs are put away
    qtbot.waitUntil(lambda: not window.session.jobs.busy and not window.session.previews.busy)
    qtbot.keyClick(room, Qt.Key.Key_Return)
    assert step.stage.currentIndex() == PAIR
    qtbot.waitUntil(
        lambda: set(pair._as_kept) == {0, 1} and not any(pair._as_kept.values()), timeout=120_000
    )
    qtbot.waitUntil(lambda: set(pair._pixels) == {0, 1}, timeout=120_000)
    one, two = pair._pixels[0], pair._pixels[1]
    assert one.shape == two.shape
    assert np.abs(one.astype(int) - two).mean() > 3
    shown = pair.grab().toImage().pixelColor(pair.width() // 2, pair.height() // 2)
    pair.turn()
    other = pair.grab().toImage().pixelColor(pair.width() // 2, pair.height() // 2)
    assert shown != other
    pair.set_way("wipe")
    at = QPointF(pair.width() * pair.line, pair.height() / 2).toPoint()
    qtbot.mousePress(pair, Qt.MouseButton.LeftButton, pos=at)
    qtbot.mouseMove(pair, at + QPointF(-80, 0).toPoint())
    qtbot.mouseRelease(pair, Qt.MouseButton.LeftButton)
    assert pair.line < 0.5
    pair.set_way("beside")
    camera = pair.camera
    qtbot.waitUntil(lambda: pair._views[0] == pair._views[1], timeout=120_000)
    pair.zoom_by(2.0, QPointF(pair.width() * 0.75, pair.height() / 2))
    assert pair.camera is not None
    assert camera is not None
    assert pair.camera.zoom == pytest.approx(2 * camera.zoom)
    step.back_to_wall()
    assert step.stage.currentIndex() == WALL
    assert window.step is step
    # one is named, noted, starred, continued, taken off and hung up again
    session = window.session
    wall.look_at("Hubble palette, S-H-O")
    step.version.name.setText("first light")
    step.version.name.editingFinished.emit()
    qtbot.waitUntil(lambda: wall.room.hung[0].name == "first light")
    qtbot.keyClick(wall.room, Qt.Key.Key_Asterisk)
    qtbot.waitUntil(lambda: wall.room.hung[0].favourite)
    step.version.note_box.written.emit("the calm one")
    qtbot.waitUntil(lambda: "the calm one" in wall.room.hung[0].lines)
    assert session.state.blend.mapping == "bicolour"
    step.continue_with()
    assert session.state.blend.mapping == "hubble-order"
    qtbot.keyClick(wall.room, Qt.Key.Key_Delete)
    qtbot.waitUntil(lambda: len(wall.room.hung) == 1)
    window.undo()
    qtbot.waitUntil(lambda: wall.room.hung[0].name == "first light")
    # a picture is dropped on the wall, and hangs where its stars lie
    session.blend.set_settings("stars", stars={"source": "kept"})
    qtbot.waitUntil(lambda: not session.previews.busy and not session.jobs.busy, timeout=120_000)
    renderer, recipe = session.blend.snapshot.renderer, session.blend.snapshot.recipe
    assert renderer is not None
    assert recipe is not None
    ours = renderer.blend(recipe, whole_view(renderer.shape, max(renderer.shape)))
    Image.fromarray(ours[:, ::-1].copy()).save(tmp_path / "autumn.png")
    before = len(session.state.sources)
    window.take_paths([tmp_path / "autumn.png"])
    qtbot.waitUntil(lambda: len(wall.room.hung) == 3, timeout=120_000)
    assert len(session.state.sources) == before
    assert wall.room.hung[2].lines[0] == "from elsewhere: autumn.png"
    wall.look_at("autumn")
    assert step.version.go_on.isHidden()
    assert "mirrored" in step.version.stale.text()
    wall.set_picks(["autumn", "first light"])
    step.open_picks()
    qtbot.waitUntil(lambda: pair._as_kept == {0: False, 1: False}, timeout=120_000)
    step.back_to_wall()
    names = {
        "newest": ["autumn", "Bicolour, H-O-O", "first light"],
        "name": ["autumn", "Bicolour, H-O-O", "first light"],
        "favourites": ["first light", "Bicolour, H-O-O", "autumn"],
    }
    for order, wanted in names.items():
        step.hanging.ordered.emit(order)
        assert [h.name for h in wall.room.hung] == wanted


def test_a_difference_is_nothing_where_both_are_alike() -> None:
    rng = np.random.default_rng(2)
    one = rng.integers(0, 255, (40, 50, 3), np.uint8)
    assert np.ptp(difference(one, one, False)) == 0
    assert difference(one, one, True).max() <= 1
    lighter = np.full((4, 4, 3), 120, np.uint8), np.full((4, 4, 3), 140, np.uint8)
    assert difference(*lighter, False).mean() > difference(*lighter[::-1], False).mean() + 50
    assert difference(*lighter, True).max() <= 3  # greys of other lightness: no colour
    red = np.full((4, 4, 3), (160, 100, 100), np.uint8)
    assert difference(lighter[0], red, True).max() > 60

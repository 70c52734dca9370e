"""Six stacks of three strangers dropped into the window, no choice made: what comes out against what
is true of them.
"""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.start import Application
from bichromus.core.numerics.sampling import View
from bichromus.core.numerics.starlet import WHITE, details
from strangers import moffat
from strangers_stacks import Evening, make_evening
from waiting import wait


def _drop(window: Window, files: list[Path]) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in files])
    left, no = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    window.dropEvent(QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, left, no))


def _large_noise(noise: np.ndarray) -> float:
    """White noise of the same strength as a noise alone on the fourth scale."""
    return float(np.std(details(np.asarray(noise, np.float32), 4)[3]) / WHITE[3])


def _smooth(plane: np.ndarray) -> np.ndarray:
    return cv2.GaussianBlur(np.asarray(plane, np.float32), (0, 0), 4.0)


@pytest.fixture
def opened(
    qtbot: QtBot, application: Application, tmp_path: Path
) -> tuple[Window, Evening, dict[str, str]]:
    """The window with their stacks prepared, what is true of them, and the stacks' ids."""
    evening = make_evening(tmp_path, 1)
    window = application.open("new")
    _drop(window, [m.file for m in evening.stacks.values()])
    session = window.session
    wait(lambda: len(session.state.sources) == len(evening.stacks), 60)
    wait(lambda: not session.channels.snapshot.rough and not session.jobs.busy, 240)
    qtbot.waitUntil(lambda: bool(session.layers.snapshot.starless), timeout=120_000)
    wait(lambda: not session.jobs.busy and not session.previews.busy, 120)
    return window, evening, {Path(s.path).stem: s.id for s in session.state.sources}


def test_strangers_stacks_come_out_true_with_no_choice_made(
    opened: tuple[Window, Evening, dict[str, str]],
) -> None:
    window, evening, ids = opened
    session = window.session
    channels = session.channels.snapshot
    assert all(s.sure for s in session.state.sources)
    assert not channels.refused
    assert channels.names == ["Ha", "O3", "S2"]
    registration = channels.registration
    base = next(n for n, i in ids.items() if registration.stacks[i].match is None)
    home = evening.stacks[base].grid
    x, y = np.meshgrid(np.linspace(40, 560, 9), np.linspace(40, 340, 7))
    for name, source in ids.items():
        match = registration.stacks[source].match
        if match is not None:
            want = evening.stacks[name].grid.from_sky(*home.to_sky(x, y))
            got = match.warp(x, y)
            assert np.median(np.hypot(got[0] - want[0], got[1] - want[1])) < 0.08, name
            assert match.mirror == evening.stacks[name].grid.mirrored

    # noise, weights and light of each channel
    x0, y0, x1, y1 = registration.box
    stars = evening.sky.stars_on(home, np.ones(len(evening.sky.x)), 4.5, moffat, 1.0)
    dark = cv2.dilate((stars > 0.15).astype(np.uint8), np.ones((11, 11)))[y0:y1, x0:x1] == 0
    for name in channels.names:
        worth, weight = [], []
        for p in channels.alone(name):
            made = evening.stacks[next(n for n, i in ids.items() if i in p.origin.stacks)]
            if p.origin.kind == "stack":
                scale = registration.stacks[p.origin.stacks[0]].scale
                true = _large_noise(made.noise) / scale
                assert p.measure.noise.sigma_eff == pytest.approx(true, rel=0.12), p.label
                worth.append((float(np.ptp(made.lines[name])) / true) ** 2)
                pooled = channels.pool(name)
                note = pooled.notes.pool if pooled is not None else None
                members = note.members if note is not None else ()
                weight.append(next((m.weight for m in members if m.origin == p.id), 1.0))
        if len(worth) > 1:  # what the weights lose against the best there are
            share, best = np.array(weight) / sum(weight), np.array(worth) / sum(worth)
            assert (share**2 / best).sum() < 1.02**2
        truth = evening.sky.lines_on(home, name, 3.2 / 2.355)[y0:y1, x0:x1]
        inside = _smooth(dark) > 0.9
        seen = _smooth(np.where(dark, channels.channel(name).levels[0], 0)) / _smooth(dark + 1e-3)
        assert np.corrcoef(seen[inside], _smooth(truth)[inside])[0, 1] > 0.96, name

    # and the picture: red where S2 is told, blue where O3 is
    renderer, recipe = session.blend.snapshot.renderer, session.blend.snapshot.recipe
    assert renderer is not None
    assert recipe is not None
    height, width = renderer.shape
    picture = renderer.blend(recipe, View(0, 0, 1.0, width, height)).astype(float)
    hue = _smooth(picture[..., 0] - picture[..., 2])[inside]
    o3, ha = (
        _smooth(evening.sky.lines_on(home, n, 1.4)[y0:y1, x0:x1])[inside] for n in ("O3", "Ha")
    )
    lean = ha / np.quantile(ha, 0.9) - o3 / np.quantile(o3, 0.9)
    assert np.corrcoef(hue, lean)[0, 1] > 0.7

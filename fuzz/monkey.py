"""``./run fuzz --monkey N``: random gestures on the window with the demo's channels, and the
longest stall of the interface thread in processor time. Exit code 1 over 100 ms, or when anything
was raised that is no sentence.
"""

from __future__ import annotations

import os
import sys
import tempfile
import traceback
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QWidget

from bichromus.app.shell.window import Window
from bichromus.app.start import Application, make_application
from bichromus.core.model.errors import BichromusError
from bichromus.workspace.demo.project import demo_named, prepare_demo

from .heartbeat import LIMIT_MS, Heartbeat, told

_HAND: Any = QTest
"""Its stubs take its functions for methods."""
_KEYS = [getattr(Qt.Key, f"Key_{k}") for k in "1234567FZHOSLRGBNKXWTMJIAV"]
_KEYS += [Qt.Key.Key_Space, Qt.Key.Key_Comma, Qt.Key.Key_Period, Qt.Key.Key_Left, Qt.Key.Key_Right]
_KEYS += [Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Tab, Qt.Key.Key_Escape, Qt.Key.Key_BracketLeft]
_LEAVE = ("…", "...", "Publish", "Rehearse", "Move", "again")
"""What opens a dialogue of the system, writes files or works for minutes is left alone."""


def run_monkey(count: int, seed: int) -> int:
    """Do so many gestures."""
    with tempfile.TemporaryDirectory() as home:
        for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
            os.environ[name] = home
        beat = Heartbeat(sys.argv[:1])
        make_application()
        return _played(beat, count, np.random.default_rng(seed))


def _played(beat: Heartbeat, count: int, rng: np.random.Generator) -> int:
    raised: list[str] = []

    def caught(
        kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        if not isinstance(error, BichromusError):
            raised.append("".join(traceback.format_exception(kind, error, trace)[-3:]))

    sys.excepthook = caught
    folder: Path = prepare_demo(demo=demo_named("nebula"))
    application = Application()
    application.settings.add_recent(folder)
    window = application.open(folder)
    _rest(window, 300)
    beat.worst, beat.events = [], 0
    for _ in range(count):
        _gesture(window, rng, beat)
        _rest(window, 2)
    beat.gesture = "closing"
    window.close()
    worst = sorted(beat.worst, reverse=True)
    longest = worst[0].ms if worst else 0.0
    print(
        f"{count} gestures, {beat.events} events, longest stall {longest:.0f} ms of processor time"
    )
    print(told(worst))
    for text in raised[:5]:
        print(f"raised: {text}")
    return 1 if raised or longest > LIMIT_MS else 0


def _rest(window: Window, rounds: int) -> None:
    for _ in range(rounds):
        _HAND.qWait(10)
        popup = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if popup is not None:
            popup.close()
        if rounds > 50 and not window.session.jobs.busy and not window.session.previews.busy:
            return


def _gesture(window: Window, rng: np.random.Generator, beat: Heartbeat) -> None:
    kind = rng.choice(["key", "click", "drag", "wheel", "undo"], p=[0.35, 0.3, 0.15, 0.1, 0.1])
    seen = [w for w in window.findChildren(QWidget) if w.isVisible() and w.isEnabled()]
    widget: QWidget = seen[int(rng.integers(len(seen)))]
    at = QPoint(
        int(rng.integers(max(widget.width(), 1))), int(rng.integers(max(widget.height(), 1)))
    )
    beat.gesture = (
        f"{kind} on {type(widget).__name__} {widget.accessibleName()!r} in {window.step.id}"
    )
    if kind == "key":
        key = _KEYS[int(rng.integers(len(_KEYS)))]
        beat.gesture = f"key {key.name} in {window.step.id}"
        _HAND.keyClick(window.focusWidget() or window, key)
        return
    if kind == "undo":
        window.undo() if rng.random() < 0.6 else window.redo()
        return
    if kind == "wheel":
        place = QPointF(at)
        turned = QPoint(0, int(rng.choice([-120, 120])))
        none = Qt.MouseButton.NoButton
        event = QWheelEvent(
            place, QPointF(widget.mapToGlobal(at)), QPoint(), turned, none,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)
        return
    text = widget.text() if isinstance(widget, QAbstractButton) else ""
    if any(word in text for word in _LEAVE) or isinstance(widget, QComboBox) or not _safe(widget):
        return
    left = Qt.MouseButton.LeftButton
    if kind == "click":
        _HAND.mouseClick(widget, left, pos=at)
        return
    _HAND.mousePress(widget, left, pos=at)
    for _ in range(6):
        at += QPoint(int(rng.integers(-25, 26)), int(rng.integers(-25, 26)))
        _HAND.mouseMove(widget, at)
        _HAND.qWait(5)
    _HAND.mouseRelease(widget, left, pos=at)


def _safe(widget: QWidget) -> bool:
    """Not the project's name, whose menu would wait for an answer."""
    return widget.objectName() != "project" and not (
        isinstance(widget, QAbstractButton) and widget.text().endswith("▾")
    )

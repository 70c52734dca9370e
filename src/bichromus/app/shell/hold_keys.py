"""Keys that are held: a channel's letter shows it alone, Space the picture before."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QLineEdit, QPlainTextEdit, QWidget

HOLD_KEYS: Final = {
    Qt.Key.Key_H: "Ha",
    Qt.Key.Key_O: "O3",
    Qt.Key.Key_S: "S2",
    Qt.Key.Key_L: "L",
    Qt.Key.Key_R: "R",
    Qt.Key.Key_G: "G",
    Qt.Key.Key_B: "B",
}
_EDGES: Final = (QEvent.Type.KeyPress, QEvent.Type.KeyRelease)


def key_of(channel: str) -> str:
    """The letter that shows a channel while it is held; empty where there is none."""
    return next((k.name[-1] for k, n in HOLD_KEYS.items() if n == channel), "")


class HoldKeys(QObject):
    """Watches the keys of a window, whatever has the focus, unless something is typed. ``hold`` and
    ``release`` are called with a channel, ``before`` with whether Space is down; ``free`` tells
    whether Space is not wanted by the control that has the focus.
    """

    def __init__(
        self,
        window: QWidget,
        hold: Callable[[str], None],
        release: Callable[[str], None],
        before: Callable[[bool], None],
        free: Callable[[], bool],
    ) -> None:
        super().__init__(window)
        self._window, self._hold, self._release = window, hold, release
        self._before, self._free = before, free
        app = QApplication.instance()
        assert app is not None
        app.installEventFilter(self)

    def stop(self) -> None:
        """Watch no more."""
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Take the keys that are held."""
        if not isinstance(event, QKeyEvent) or event.type() not in _EDGES:
            return False
        if not isinstance(watched, QWidget) or watched.window() is not self._window:
            return False
        down = event.type() == QEvent.Type.KeyPress
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        if key == Qt.Key.Key_Space and self._free():
            if not event.isAutoRepeat():
                self._before(down)
            return True
        typing = isinstance(self._window.focusWidget(), QLineEdit | QPlainTextEdit)
        if key not in HOLD_KEYS or event.modifiers() or typing:
            return False
        if not event.isAutoRepeat():
            (self._hold if down else self._release)(HOLD_KEYS[key])
        return True

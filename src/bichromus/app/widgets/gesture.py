"""What the value slider and the balance dial share: one value, moved by gestures."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ..theme.look import LOOK
from .later import Pause


class ValueGesture(QWidget):
    """``moved`` while it goes, ``settled`` once at the end of a gesture: a drag, or keys and then a
    pause.
    """

    moved = pyqtSignal(float)
    settled = pyqtSignal(float)

    def __init__(self, name: str, value: float) -> None:
        super().__init__()
        self._value = value
        self._dragging = False
        self._pause = Pause(self, lambda: self.settled.emit(self._value))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(name)
        LOOK.changed.connect(self.update)

    @property
    def value(self) -> float:
        """Where it stands."""
        return self._value

    @property
    def in_hand(self) -> bool:
        """A gesture has begun and not ended."""
        return self._dragging or self._pause.isActive()

    def finish(self) -> None:
        """End a gesture of keys or wheel now."""
        self._pause.finish()

    def _take(self, x: float) -> None:
        """The pointer is at ``x`` while it drags."""
        raise NotImplementedError

    def _show(self, value: float) -> None:
        """Show a value from outside without telling anybody; a gesture in hand is left alone."""
        if not self.in_hand and value != self._value:
            self._value = value
            self.update()

    def _move(self, value: float) -> None:
        """The gesture has reached a value."""
        if value != self._value:
            self._value = value
            self.update()
            self.moved.emit(value)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._dragging = True
            self._take(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._dragging:
            self._take(event.position().x())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._dragging:
            self._dragging = False
            self.settled.emit(self._value)

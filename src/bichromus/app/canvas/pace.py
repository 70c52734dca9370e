"""How finely a picture is asked for while it moves: at every pixel where that is quick enough, else
at every second one, and whole once it rests.
"""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Final

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ...core.numerics.sampling import View

QUICK_S: Final = 0.055
"""An answer that takes longer is felt as late while a hand moves a control."""
_RESTS_MS: Final = 160
_COARSER: Final = 2


class Pace(QObject):
    """``rests`` says that the picture no longer moves and was asked for coarsely."""

    rests = pyqtSignal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.slow = False
        self._asked: tuple[int, float] = (0, 0.0)
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(_RESTS_MS)
        self._pause.timeout.connect(self.rests)

    def view_asked(self, number: int, view: View, moving: bool) -> View:
        """The view to ask for under this number, where ``view`` is wanted."""
        if moving and self.slow:
            self._pause.start()
            width, height = (max(1, -(-n // _COARSER)) for n in (view.width, view.height))
            return replace(view, step=view.step * _COARSER, width=width, height=height)
        self._pause.stop()
        self._asked = (number, time.perf_counter())
        return view

    def answered(self, number: int) -> None:
        """An answer is there: if it was a whole one, it tells how quick they come."""
        if number == self._asked[0]:
            self.slow = time.perf_counter() - self._asked[1] > QUICK_S

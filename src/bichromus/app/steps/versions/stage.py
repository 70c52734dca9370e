"""The stage of the Versions step: nothing yet, the wall, or two versions."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from ...widgets.fold import button, label
from .pair import PairView
from .wall import Wall

EMPTY, WALL, PAIR = range(3)


class VersionsStage(QStackedWidget):
    """``keep_wanted`` asks for the first version, ``bring_wanted`` for one from elsewhere."""

    keep_wanted = pyqtSignal()
    bring_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.wall, self.pair = Wall(), PairView()
        self.keep = button("Keep the picture as it is", "Hang it on the wall (Ctrl+D)", "primary")
        self.keep.clicked.connect(self.keep_wanted)
        self.words = label("", "muted", wrap=True)
        empty = QWidget()
        column = QVBoxLayout(empty)
        column.addStretch(1)
        title = label("Versions of the picture hang here", "title")
        for part in (title, self.words):
            part.setAlignment(Qt.AlignmentFlag.AlignHCenter)
            column.addWidget(part)
        column.addSpacing(14)
        column.addWidget(self.keep, 0, Qt.AlignmentFlag.AlignHCenter)
        self.bring = button(
            "Bring one in…", "A picture from elsewhere, laid on the grid by its stars", "quiet"
        )
        self.bring.clicked.connect(self.bring_wanted)
        column.addWidget(self.bring, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)
        for page in (empty, self.wall, self.pair):
            self.addWidget(page)

    def show_ready(self, ready: bool) -> None:
        """Whether there is a picture to keep."""
        self.keep.setVisible(ready)
        self.bring.setVisible(ready)
        self.words.setText(
            "Keep one, change the blend, keep another; hang last year's beside them: then choose "
            "with a clear eye."
            if ready
            else "Open stacks and blend them first: then each picture that you keep hangs here."
        )

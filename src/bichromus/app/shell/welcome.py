"""An empty stage says what to do next, and offers it."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ..widgets.fold import button, label


class Welcome(QWidget):
    """Shown while the project holds no channel."""

    open_wanted = pyqtSignal()
    demo_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label("", "title")
        self.words = label("", "muted", wrap=True)
        self.words.setFixedWidth(420)
        for part in (self.head, self.words):
            part.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.open_button = button("Open stacks…", "Choose FITS, TIFF or PNG stacks (Ctrl+O)", "primary")
        self.open_button.clicked.connect(self.open_wanted)
        self.demo_button = button("Open the demo", "An invented nebula, gathered by two stations")
        self.demo_button.clicked.connect(self.demo_wanted)
        self.buttons = QWidget()
        row = QHBoxLayout(self.buttons)
        row.addStretch(1)
        row.addWidget(self.open_button)
        row.addWidget(self.demo_button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addStretch(1)
        column.addWidget(self.head)
        column.addWidget(self.words, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(10)
        column.addWidget(self.buttons)
        column.addStretch(1)
        self.set_waiting(False)

    def set_waiting(self, waiting: bool) -> None:
        """Work is under way: nothing to offer until it is done."""
        self.buttons.setVisible(not waiting)
        self.head.setText("Preparing the channels" if waiting else "No stacks yet")
        self.words.setText("Reading, extracting and measuring. This is done once; the result is kept." if waiting else
                           "Open the mono and dual-band stacks of one target, or drop them here. "
                           "Their headers say what they hold; what is unclear can be corrected.")

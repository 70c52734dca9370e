"""An empty stage says what to do next, and offers it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ..widgets.fold import button, label


class Welcome(QWidget):
    """Shown while the project holds no channel."""

    open_wanted = pyqtSignal()
    demo_wanted = pyqtSignal(str)
    again_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label("", "title")
        self.words = label("", "muted", wrap=True)
        self.words.setFixedWidth(420)
        for part in (self.head, self.words):
            part.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.open_button = button(
            "Open stacks…", "Choose FITS, TIFF or PNG stacks (Ctrl+O)", "primary"
        )
        self.open_button.clicked.connect(self.open_wanted)
        self.demo_buttons = [
            button(words, tip)
            for words, tip in (
                ("Demo nebula", "An invented nebula in three lines, gathered by three stations"),
                ("Demo galaxy", "An invented spiral in L, R, G and B, with Ha shot under the Moon"),
            )
        ]
        for demo, made in zip(("nebula", "galaxy"), self.demo_buttons, strict=True):
            made.clicked.connect(partial(self.demo_wanted.emit, demo))
        self.buttons = QWidget()
        row = QHBoxLayout(self.buttons)
        row.addStretch(1)
        row.addWidget(self.open_button)
        for made in self.demo_buttons:
            row.addWidget(made)
        self.again_button = button(
            "Prepare them", "Read, extract and measure what is missing", "primary"
        )
        self.again_button.clicked.connect(self.again_wanted)
        row.addWidget(self.again_button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addStretch(1)
        column.addWidget(self.head)
        column.addWidget(self.words, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(10)
        column.addWidget(self.buttons)
        column.addStretch(1)
        self.show_state(False, False)

    def show_state(self, busy: bool, sources: bool) -> None:
        """Work is under way, or it was stopped and can be done again, or there is nothing yet."""
        self.buttons.setVisible(not busy)
        again = sources and not busy
        self.open_button.setVisible(not again)
        for demo in self.demo_buttons:
            demo.setVisible(not again)
        self.again_button.setVisible(again)
        if busy:
            self.head.setText("Preparing the channels")
            self.words.setText(
                "Reading, extracting and measuring. This is done once; the result is kept."
            )
        elif again:
            self.head.setText("The channels are not prepared")
            self.words.setText(
                "The work was stopped, or a stack could not be used. What was done is kept."
            )
        else:
            self.head.setText("No stacks yet")
            self.words.setText(
                "Open the mono and dual-band stacks of one target, or drop them here. "
                "Their headers say what they hold; what is unclear can be corrected."
            )

"""An empty stage asks what is in the person's hands, and offers the way on."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Final

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ..widgets.fold import button, label

_WIDE: Final = 560
_RECENT: Final = 3


_WORDS_PX = 560


class Welcome(QWidget):
    """Shown while the project holds no channel."""

    open_wanted = pyqtSignal()
    demo_wanted = pyqtSignal(str)
    again_wanted = pyqtSignal()
    subs_wanted = pyqtSignal()
    night_wanted = pyqtSignal()
    project_wanted = pyqtSignal(Path)

    def __init__(self) -> None:
        super().__init__()
        self.head = label("", "title")
        self.words = label("", "muted", wrap=True)
        self.words.setFixedWidth(_WORDS_PX)  # else its second line is cut off
        for part in (self.head, self.words):
            part.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.ways = QWidget()
        self.ways.setFixedWidth(_WIDE)
        self._grid = QGridLayout(self.ways)
        self._grid.setVerticalSpacing(14)
        self._grid.setColumnStretch(0, 1)
        self.open_button = button(
            "Open stacks…", "Choose FITS, TIFF or PNG stacks (Ctrl+O)", "primary"
        )
        self.subs_button = button("Take in a folder…", "Read the headers of all subs in it")
        self.night_button = button("Plan it", "What to shoot tonight, when, how long (1)")
        self.demo_buttons = [
            button(words, tip)
            for words, tip in (
                ("Nebula", "An invented nebula in three lines, gathered by three stations"),
                ("Galaxy", "An invented spiral in L, R, G and B, with Ha shot under the Moon"),
            )
        ]
        self.open_button.clicked.connect(self.open_wanted)
        self.subs_button.clicked.connect(self.subs_wanted)
        self.night_button.clicked.connect(self.night_wanted)
        for demo, made in zip(("nebula", "galaxy"), self.demo_buttons, strict=True):
            made.clicked.connect(partial(self.demo_wanted.emit, demo))
        self._offer("Stacks", "Mono and dual-band, of one target; or drop them here.",
                    [self.open_button])  # fmt: skip
        self._offer("Subs of a night", "Logged by their headers, reviewed, stacked to have a look.",
                    [self.subs_button])  # fmt: skip
        self._offer("A free night", "Planned for your sky, your rig and the Moon.",
                    [self.night_button])  # fmt: skip
        self._offer("Nothing yet", "Look around in one of two invented projects.",
                    self.demo_buttons)  # fmt: skip
        self._recent_head = label("Or go on with", "muted")
        self.recent_row = QHBoxLayout()
        self.recent_buttons: list[QPushButton] = []
        self.again_button = button(
            "Prepare them", "Read, extract and measure what is missing", "primary"
        )
        self.again_button.clicked.connect(self.again_wanted)
        column = QVBoxLayout(self)
        column.addStretch(1)
        column.addWidget(self.head)
        column.addWidget(self.words, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(10)
        column.addWidget(self.ways, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addWidget(self.again_button, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(10)
        column.addWidget(self._recent_head, 0, Qt.AlignmentFlag.AlignHCenter)
        row = QWidget()
        row.setLayout(self.recent_row)
        column.addWidget(row, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)
        self.show_state(False, False)

    def _offer(self, title: str, words: str, buttons: Sequence[QPushButton]) -> None:
        """A line: what one has, what comes of it, and the way there."""
        said = QVBoxLayout()
        said.setSpacing(1)
        said.addWidget(label(title, "head"))
        said.addWidget(label(words, "muted"))
        ways = QHBoxLayout()
        ways.setSpacing(8)
        ways.addStretch(1)
        for made in buttons:
            ways.addWidget(made)
        row = self._grid.rowCount()
        self._grid.addLayout(said, row, 0)
        self._grid.addLayout(ways, row, 1)

    def show_recent(self, projects: Sequence[Path]) -> None:
        """Projects to go on with."""
        names = [p.stem for p in projects[:_RECENT]]
        if names != [b.text() for b in self.recent_buttons]:
            for made in self.recent_buttons:
                self.recent_row.removeWidget(made)
                made.deleteLater()
            self.recent_buttons = []
            for path in projects[:_RECENT]:
                made = button(path.stem, f"Open this project again: {path.stem}")
                made.clicked.connect(partial(self.project_wanted.emit, path))
                self.recent_row.addWidget(made)
                self.recent_buttons.append(made)
        shown = bool(names) and not self.ways.isHidden()
        self._recent_head.setVisible(shown)
        for made in self.recent_buttons:
            made.setVisible(shown)

    def show_state(self, busy: bool, sources: bool, asks: bool = False) -> None:
        """Work is under way, or it was stopped and can be done again, or there is nothing yet;
        ``asks``: it waits until files outside the project may be read.
        """
        again = sources and not busy
        self.ways.setVisible(not busy and not again)
        self.again_button.setVisible(again)
        if busy:
            self.head.setText("Preparing the channels")
            self.words.setText(
                "Reading, extracting and measuring. This is done once; the result is kept."
            )
        elif again:
            self.head.setText("The channels are not prepared")
            self.words.setText(
                "Its stacks lie outside this project and have not been read yet."
                if asks
                else "The work was stopped, or a stack could not be used. What was done is kept."
            )
        else:
            self.head.setText("What is in your hands?")
            self.words.setText("")
        self.words.setVisible(bool(self.words.text()))

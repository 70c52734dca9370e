"""A project from elsewhere says which files it wants to read, and waits for an answer."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ..widgets.fold import button, label
from .sheets import Sheet

_SHOWN: Final = 8
_WORDS: Final = (
    "This project was made elsewhere, or by an older version. It points to files outside its "
    "folder. Nothing of them is read until you allow it; allow it only if you know these places."
)


class OutsideSheet(Sheet):
    """Lists the folders; one button reads them, the other leaves them alone."""

    allowed = pyqtSignal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Read files outside this project?", 560)
        self.body.addWidget(label(_WORDS, wrap=True))
        self.places = label("", "figure", wrap=True)
        self.body.addWidget(self.places)
        self.allow = button("Read them", "Read these files now, and remember it for this project")
        self.leave = button("Leave them", "Read nothing outside the project (Esc)", "quiet")
        self.allow.clicked.connect(self._allow)
        self.leave.clicked.connect(self.put_away)
        row = QHBoxLayout()
        row.addWidget(self.allow)
        row.addWidget(self.leave)
        row.addStretch(1)
        self.body.addLayout(row)

    def show_places(self, paths: Sequence[Path]) -> None:
        """What is pointed to, by folder."""
        self.places.setText(places_text(paths))

    def _allow(self) -> None:
        self.put_away()
        self.allowed.emit()


def places_text(paths: Sequence[Path]) -> str:
    """Folders with the number of files in each, a line each."""
    counts = Counter(str(p.parent) for p in paths)
    rows = [f"{n} {'file' if n == 1 else 'files'} in {f}" for f, n in counts.most_common(_SHOWN)]
    rest = len(counts) - len(rows)
    return "\n".join([*rows, *([f"and {rest} more folders"] if rest > 0 else [])])

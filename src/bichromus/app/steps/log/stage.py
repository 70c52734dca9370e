"""The stage of the log: nights and channels above, the growth of SNR below."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Final

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from ....workspace.log.view import Pick
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from .growth import GrowthPlot
from .matrix import Matrix

ALL: Final = {
    "station": "all stations",
    "rig": "all rigs",
    "season": "all seasons",
    "object_name": "all targets",
}
"""Parts of the log that can be picked, and what picks none of them."""


class LogStage(QStackedWidget):
    """Page 0 says how a log begins, page 1 shows it. ``filtered`` names a part that was picked."""

    filtered = pyqtSignal(str)

    def __init__(self, take_in: Callable[[], None], type_run: Callable[[], None]) -> None:
        super().__init__()
        self.matrix, self.plot = Matrix(), GrowthPlot()
        self.addWidget(self._empty_page(take_in))
        page = QWidget()
        self.addWidget(page)
        column = QVBoxLayout(page)
        column.setContentsMargins(18, 10, 18, 6)
        column.setSpacing(4)
        self.total = label("", "head")
        top = QHBoxLayout()
        top.addWidget(self.total)
        top.addStretch(1)
        self.boxes: dict[str, ChoiceBox] = {}
        for name, words in ALL.items():
            box = ChoiceBox(words.removeprefix("all "), f"Show {words}, or one of them")
            box.activated.connect(lambda _i, n=name: self.filtered.emit(n))
            self.boxes[name] = box
            top.addWidget(box)
        type_one = button("Type a run…", "A run that left no files: night, channel, count (Ctrl+L)")
        type_one.clicked.connect(type_run)
        top.addWidget(type_one)
        column.addLayout(top)
        column.addWidget(self.matrix, 3)
        column.addSpacing(8)
        head = QHBoxLayout()
        head.addWidget(label("is it enough?", "head"))
        self.legend = label("", "muted")
        self.legend.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.legend.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        head.addWidget(self.legend, 1)
        column.addLayout(head)
        column.addWidget(self.plot, 2)

    def _empty_page(self, take_in: Callable[[], None]) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        words = (
            label("Nothing is logged yet.", "title"),
            label(
                "Take in a folder of subs: every sub counts once, whatever it is called and "
                "wherever it lies.\n"
                "Or paste a table of runs (Ctrl+V), or type one (Ctrl+L).",
                "muted",
            ),
        )
        take = button("Take in a folder…", "Read the headers of all subs in it (Ctrl+I)", "primary")
        column.addStretch(1)
        for part in words:
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(part)
        column.addSpacing(10)
        take.clicked.connect(take_in)
        column.addWidget(take, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)
        return page

    def show_filters(self, values: Mapping[str, Sequence[str]], pick: Pick) -> None:
        """Offer what can be picked, and show what is."""
        for name, box in self.boxes.items():
            names = [ALL[name], *values[name]]
            if [box.itemText(i) for i in range(box.count())] != names:
                box.clear()
                box.addItems(names)
            chosen = getattr(pick, name)
            box.setCurrentIndex(names.index(chosen) if chosen in names else 0)
            box.setVisible(len(values[name]) > 1)
            box.setMaximumWidth(130)

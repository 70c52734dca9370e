"""The stage of Subs: one sub large, its neighbours under it, the figures of the group below."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ....workspace.subs.groups import Group, Reviewed
from ....workspace.subs.pictures import SubPictures
from ....workspace.viewing.request import Request
from ...canvas import Canvas
from ...widgets.choice import ChoiceBox
from ...widgets.fold import label, set_role
from ...widgets.plain import set_tip
from .plots import Plots
from .strip import Strip
from .words import verdict


class SubsStage(QStackedWidget):
    """Page 0 says that there are no subs, page 1 shows one. ``chosen`` is the index of a sub in its
    group, ``group_chosen`` that of a group.
    """

    chosen = pyqtSignal(int)
    group_chosen = pyqtSignal(int)

    def __init__(self, pictures: SubPictures) -> None:
        super().__init__()
        self.canvas = Canvas()
        self.canvas.setAccessibleName("the sub")
        set_tip(
            self.canvas,
            "Wheel zooms at the pointer, drag pans, F fits, Z shows one to one.\n"
            ", and . step, hold to run; K keeps, X rejects.",
        )
        self.canvas.wanted.connect(pictures.request_view)
        self.strip, self.plots = Strip(pictures.thumb_of), Plots()
        for part in (self.strip, self.plots):
            part.chosen.connect(self.chosen)
        self.box = ChoiceBox(
            "group of subs", "Subs of one channel, rig, length and night, judged against each other"
        )
        self.box.setMinimumWidth(250)
        self.box.activated.connect(self.group_chosen)
        self.where = label("", "head")
        self.verdict = label("")
        self.addWidget(self._empty_page())
        self.addWidget(self._page())

    def _page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 8)
        column.setSpacing(4)
        top = QHBoxLayout()
        top.setContentsMargins(14, 6, 14, 2)
        top.addWidget(self.box)
        top.addSpacing(8)
        top.addWidget(self.where)
        top.addStretch(1)
        top.addWidget(self.verdict)
        column.addLayout(top)
        column.addWidget(self.canvas, 1)
        column.addWidget(self.strip)
        lower = QHBoxLayout()
        lower.setContentsMargins(14, 0, 14, 0)
        lower.addWidget(self.plots)
        column.addLayout(lower)
        return page

    def _empty_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.addStretch(1)
        for words, role in (
            ("There are no subs to look at.", "title"),
            (
                "Take a folder of subs into the log (Ctrl+I), watch one (Ctrl+Shift+I), or "
                "rehearse an evening there.",
                "muted",
            ),
        ):
            part = label(words, role)
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(part)
        column.addStretch(1)
        return page

    def show_groups(self, labels: list[str], index: int | None) -> None:
        """Offer the groups, and show which one it is."""
        if [self.box.itemText(i) for i in range(self.box.count())] != labels:
            self.box.clear()
            self.box.addItems(labels)
        if index is not None:
            self.box.setCurrentIndex(index)

    def show_sub(self, group: Group, here: Reviewed, index: int) -> None:
        """Where the sub stands in its group, what is said of it, and its picture."""
        start = f"{here.sub.start:%H:%M} UTC" if here.sub.start else ""
        self.where.setText(f"{index + 1} of {len(group.subs)}   {start}")
        words, wants = verdict(here)
        self.verdict.setText(words)
        set_role(self.verdict, "wants" if wants else "muted")
        self.strip.show_group(group, index)
        self.plots.show_group(group, index)
        self.canvas.ask()

    def show_answer(self, request: Request, pixels: object) -> None:
        """A picture that was asked for."""
        self.canvas.show_answer(request, pixels)  # type: ignore[arg-type]

"""What to shoot tonight or this month, the most hours first; one key makes a target the plan's."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.plan.kinds import KINDS
from ....workspace.planning.month import ListRequest, Shootable
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.plain import set_tip
from ...widgets.table import RowTable

_HEADS: Final = ("target", "kind", "size", "highest", "hours, lines", "hours, broadband", "held")
_ALL: Final = "all kinds"


def _cells(x: Shootable) -> tuple[str, ...]:
    names = [x.name, *(i for i in x.ids if i != x.name)]
    size = f"{x.size_arcmin[0]:.0f}′ × {x.size_arcmin[1]:.0f}′" if x.size_arcmin else "unknown"
    return (
        ("★ " if x.mine else "") + ", ".join(names[:3]),
        x.kind,
        size,
        f"{x.transit_deg:.0f}°",
        f"{x.hours_lines:.1f}",
        f"{x.hours_broadband:.1f}",
        f"{x.held_h:.1f} h" if x.held_h else "",
    )


class MonthDialog(QDialog):
    """What is listed above, the list below."""

    def __init__(
        self,
        ask: Callable[[ListRequest], None],
        take: Callable[[Shootable], bool],
        place: str,
        parent: QWidget,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"What to shoot at {place}")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(900, 620)
        self._ask, self._take = ask, take
        self.found: list[Shootable] = []
        self.shown: list[Shootable] = []
        self.when = ChoiceBox("nights", "The planned night alone, or a month from it on")
        self.when.addItems(["a month", "this night"])
        self.kind = ChoiceBox("kind", "Kinds of target")
        self.kind.addItems([_ALL, *KINDS])
        self.fit = ChoiceBox(
            "size", "A quarter of the rig's field to one and a half of it, or any size"
        )
        self.fit.addItems(["fits the field", "any size"])
        self.by = ChoiceBox("order", "By hours under any Moon, or by those without it")
        self.by.addItems(["for lines", "for broadband"])
        self.search = QLineEdit()
        self.search.setPlaceholderText("name")
        self.search.setAccessibleName("name")
        set_tip(self.search, "Only names in which this stands")
        self.search.textChanged.connect(lambda _text: self._fill())
        row = QHBoxLayout()
        for box in (self.when, self.kind, self.fit, self.by):
            box.activated.connect(lambda _i: self.ask())
            row.addWidget(box)
        row.addWidget(self.search, 1)
        self.table = RowTable(_HEADS, "targets", 2)
        set_tip(
            self.table,
            "Hours above your horizon and limits with the Sun down: under any Moon for lines,\n"
            "without it for broadband. Return makes the target the plan's.",
        )
        self.table.chosen.connect(self.take)
        self.message = label("Reckoning…", "muted")
        use = button("Plan this one", "Make the chosen target the plan's (Return)", "primary")
        use.clicked.connect(lambda: self.take(self.table.currentRow()))
        foot = QHBoxLayout()
        foot.addWidget(self.message, 1)
        foot.addWidget(use)
        column = QVBoxLayout(self)
        column.addLayout(row)
        column.addWidget(self.table, 1)
        column.addLayout(foot)
        self.ask()

    @property
    def request(self) -> ListRequest:
        """What is asked for."""
        kind = self.kind.currentText()
        return ListRequest(
            "" if kind == _ALL else kind,
            self.when.currentIndex() == 0,
            self.fit.currentIndex() == 0,
            "lines" if self.by.currentIndex() == 0 else "broadband",
        )

    def ask(self) -> None:
        """List anew."""
        self.message.setText("Reckoning…")
        self._ask(self.request)

    def show_found(self, request: ListRequest, found: list[Shootable]) -> None:
        """What was listed, where it is still what is asked for."""
        if request != self.request:
            return
        self.found = found
        self._fill()

    def _fill(self) -> None:
        part = self.search.text().strip().casefold()
        self.shown = [x for x in self.found if any(part in n.casefold() for n in (x.name, *x.ids))]
        self.table.show_rows([_cells(x) for x in self.shown])
        count = len(self.shown)
        self.message.setText(f"{count} targets; ★ is one of your own." if count else "None.")
        if not self.search.hasFocus():
            self.table.setFocus()

    def take(self, row: int) -> None:
        """Make the target of a row the plan's."""
        if 0 <= row < len(self.shown) and self._take(self.shown[row]):
            self.accept()

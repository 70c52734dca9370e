"""How the stacks lie on one grid."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal

from .....workspace.channels import commands
from .....workspace.channels.prepared import Prepared
from .....workspace.channels.registration import suggest_reference
from .....workspace.channels.steps import stacks_behind
from .....workspace.project.state import Crop
from .....workspace.session import Session
from ....widgets.choice import ChoiceBox
from ....widgets.fold import Figures, button, label
from .base import Panel

CROPS: Final[tuple[tuple[Crop, str], ...]] = (
    ("common", "the part that all share"),
    ("reference", "the reference's frame"),
    ("union", "all that was seen"),
)


class AlignPanel(Panel):
    """The reference, the field that is shown, and a line for each stack."""

    missed = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.reference = ChoiceBox(
            "reference",
            "The stack whose grid the others take;\nthe one with most hours is suggested",
        )
        self.reference.activated.connect(lambda i: self._choose(i))
        self.crop = ChoiceBox("field", "What of the field is shown and blended")
        self.crop.addItems([words for _, words in CROPS])
        self.crop.activated.connect(lambda i: self.do(commands.set_crop(CROPS[i][0])))
        self.lines = Figures()
        self.misses = button(
            "show how stars miss",
            "Arrows from each matched star to where the other stack has it,\n"
            "enlarged: they should point everywhere and nowhere",
            "choice",
        )
        self.misses.setCheckable(True)
        self.misses.clicked.connect(self._miss)
        self.whose = ChoiceBox(
            "stack whose misses are shown",
            "Each stack misses in its own way: look at one at a time",
        )
        self.whose.activated.connect(lambda _i: self.missed.emit(True))
        self.whose.hide()
        self.refused = label("", "wants", wrap=True)
        for widget in (
            self.reference,
            self.crop,
            self.lines,
            self.misses,
            self.whose,
            self.refused,
        ):
            self.column.addWidget(widget)
        self._ids: list[str] = []
        self._moved: list[str] = []

    @property
    def missing(self) -> str | None:
        """The stack whose misses are to be shown; None for none."""
        index = self.whose.currentIndex()
        return (
            self._moved[index]
            if self.misses.isChecked() and 0 <= index < len(self._moved)
            else None
        )

    def _choose(self, index: int) -> None:
        self.do(commands.set_reference(self.wanted.source(self._ids[index])))

    def _miss(self, on: bool) -> None:
        self.whose.setVisible(bool(on) and len(self._moved) > 1)
        self.missed.emit(bool(on))

    def refresh(self, prepared: Prepared) -> None:
        wanted, registration = self.wanted, self.channels.registration
        stacks = [s for s in wanted.sources if not s.preliminary]
        suggested = suggest_reference(stacks)
        names = [s.label + (", suggested" if s.id == suggested else "") for s in stacks]
        if [self.reference.itemText(i) for i in range(self.reference.count())] != names:
            self.reference.clear()
            self.reference.addItems(names)
        self._ids = [s.id for s in stacks]
        if registration.reference in self._ids:
            self.reference.setCurrentIndex(self._ids.index(registration.reference))
        self.crop.setCurrentIndex([c for c, _ in CROPS].index(wanted.crop))
        rows = []
        for source in stacks:
            match = (
                registration.stacks[source.id].match if source.id in registration.stacks else None
            )
            if match is not None:
                words = registration.stacks[source.id].words
                rows.append(
                    (
                        source.label,
                        "mirrored" if match.mirror else "",
                        f"{match.rms_px:.2f} px",
                        f"{words}\n"
                        f"{match.warp.model}; chance would do as well once in 10^{match.score:.0f}",
                    )
                )
        behind = {s.id for s in stacks_behind(self.channels, wanted, prepared)}
        moved = [
            s
            for s in stacks
            if s.id in behind
            and s.id in registration.stacks
            and registration.stacks[s.id].match is not None
        ]
        if [s.id for s in moved] != self._moved:
            self._moved = [s.id for s in moved]
            self.whose.clear()
            self.whose.addItems([f"of {s.label}" for s in moved])
        self.whose.setVisible(self.misses.isChecked() and len(moved) > 1)
        self.crop.setVisible(bool(rows))
        self.misses.setVisible(bool(moved))
        self.lines.show_rows(rows)
        self.refused.setText("\n".join(registration.refused.values()))
        self.refused.setVisible(bool(registration.refused))

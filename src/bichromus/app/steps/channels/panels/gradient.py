"""The slope of the sky that is taken off."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal

from .....workspace.channels import commands
from .....workspace.channels.prepared import Prepared
from .....workspace.channels.steps import members_of
from .....workspace.project.state import AUTO, PLANE
from .....workspace.session import Session
from ....widgets.choice import ChoiceBox
from ....widgets.fold import Figures, button
from .base import Panel

DEGREES: Final = (AUTO, 1, 2, 3, 4)


class GradientPanel(Panel):
    """The degree, and what was drawn that must not count as sky."""

    drawing = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.degree = ChoiceBox(
            "degree of the gradient",
            "The simplest surface that the sky asks for is chosen;\n"
            "a higher degree bends more and may take nebula with it",
        )
        self.degree.addItems(["degree chosen by the sky", *(f"degree {n}" for n in DEGREES[1:])])
        self.degree.activated.connect(self._choose)
        self.figures = Figures()
        self.draw = button(
            "draw what must not count",
            "Drag over nebula that is taken for sky; the gradient is found "
            "anew.\nReturn puts a disc into the middle of the view.",
            "choice",
        )
        self.draw.setCheckable(True)
        self.draw.clicked.connect(lambda on: self.drawing.emit(bool(on)))
        self.clear = button(
            "clear what was drawn", "Let everything count again that looks like sky"
        )
        self.clear.clicked.connect(lambda: self.do(commands.clear_drawn_sky(self.channel)))
        for widget in (self.degree, self.figures, self.draw, self.clear):
            self.column.addWidget(widget)

    def _choose(self, index: int) -> None:
        degree = None if DEGREES[index] == AUTO else DEGREES[index]
        self.do(commands.set_gradient(self.channel, degree))

    def refresh(self, prepared: Prepared) -> None:
        degree = self.wanted.gradient.get(prepared.channel, AUTO)
        on = degree != PLANE
        self.degree.setVisible(on)
        self.degree.setCurrentIndex(DEGREES.index(degree) if degree in DEGREES else 0)
        rows = []
        for member in members_of(self.channels, prepared):
            note = member.notes.gradient
            if note is None:
                continue
            share = f"{100 * note.sky_share:.0f} %"
            rows.append(
                (
                    member.label,
                    f"{share} sky",
                    f"{note.before:.1f} → {note.after:.1f} σ",
                    "Slope of the sky before and after, peak to peak over the noise of a pixel;\n"
                    f"degree {note.degree}, through the {share} of the frame that shows sky",
                )
            )
        self.figures.show_rows(rows)
        self.draw.setVisible(on)
        self.clear.setVisible(bool(self.wanted.not_sky.get(prepared.channel)))
        several = prepared.notes.pool is not None
        words = "draw what must not count"
        self.draw.setText(f"{words} (all origins)" if several else words)

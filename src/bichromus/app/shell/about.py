"""What this program is, and what it demands of itself on this machine."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QWidget

from ... import __version__
from ...core.selftest import Finding, worst_of_each
from ..widgets.fold import button, label, set_role
from ..widgets.plain import set_tip
from .sheets import Sheet

_WORDS = (
    "From line and colour stacks of the deep sky to one picture. Free software under the GNU "
    "General Public License, version 3 or later; all data stay on this machine."
)
_ASKED = (
    "Stacks of known truth, made in every usual way, are taken through noise, extraction, star "
    "split and pool. It takes about a minute."
)


class AboutSheet(Sheet):
    """Name, version, licence, and the self-test with its figures."""

    wanted = pyqtSignal()
    """The self-test, from its beginning."""

    def __init__(self, parent: QWidget, moved: Callable[[], None]) -> None:
        super().__init__(parent, "About Bichromus", 620)
        self._moved = moved
        self.body.addWidget(label(f"Bichromus {__version__}"))
        self.body.addWidget(label(_WORDS, "muted", wrap=True))
        self.words = label(_ASKED, "muted", wrap=True)
        self.body.addWidget(self.words)
        self._figures = QWidget()
        self.body.addWidget(self._figures)
        self.begin = button("try it on this machine", "Begin the self-test; the foot can cancel it")
        self.begin.clicked.connect(self._begin)
        self.body.addWidget(self.begin, 0, Qt.AlignmentFlag.AlignLeft)

    def _begin(self) -> None:
        self.begin.setEnabled(False)
        self.words.setText("Being tried; the foot of the window shows how far it is.")
        self.wanted.emit()

    def rest(self) -> None:
        """No job is left: what was cancelled can be begun again."""
        if not self.begin.isEnabled():
            self.begin.setEnabled(True)
            self.words.setText(_ASKED)

    def show_findings(self, findings: Sequence[Finding]) -> None:
        """The demand of each kind that came nearest to being missed."""
        self.begin.setEnabled(True)
        missed = sum(not f.held for f in findings)
        self.words.setText(
            f"{len(findings)} demands, {missed} missed. Of each kind the one nearest to it:"
            if missed
            else f"All {len(findings)} demands are held. Of each kind the one nearest to its limit:"
        )
        set_role(self.words, "wants" if missed else "muted")
        old, self._figures = self._figures, _figures(worst_of_each(findings))
        self.body.replaceWidget(old, self._figures)
        old.deleteLater()
        self._figures.show()
        self._moved()


def _figures(findings: Sequence[Finding]) -> QWidget:
    """A row for each finding; what it was tried on under the pointer."""
    out = QWidget()
    grid = QGridLayout(out)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setVerticalSpacing(4)
    grid.setHorizontalSpacing(14)
    grid.setColumnStretch(0, 1)
    for row, one in enumerate(findings):
        what = label(one.what, "muted")
        set_tip(what, one.data)
        figure = label(one.figure_text, "figure")
        figure.setAlignment(Qt.AlignmentFlag.AlignRight)
        held = label("held" if one.held else "missed")
        set_role(held, "muted" if one.held else "wants")
        for column, cell in enumerate((what, figure, label(one.limit_text, "muted"), held)):
            grid.addWidget(cell, row, column)
    return out

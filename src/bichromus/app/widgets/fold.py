"""A fold of the inspector: a heading with its one-line result, and what is under it."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from .plain import Label, set_tip


def label(text: str = "", role: str | None = None, wrap: bool = False) -> Label:
    """A label in one of the roles of the style sheet."""
    made = Label(text)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wrap)
    return made


def set_role(widget: QWidget, role: str) -> None:
    """Give a widget another role of the style sheet, and let it be seen."""
    widget.setProperty("role", role)
    style = widget.style()
    if style is not None:
        style.polish(widget)


def button(text: str, tip: str, role: str | None = None) -> QPushButton:
    """A button with its tooltip and accessible name."""
    made = QPushButton(text)
    set_tip(made, tip)
    made.setAccessibleName(text)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    if role:
        made.setProperty("role", role)
    return made


class Fold(QFrame):
    """Heading to the left, note to the right; a click on the heading opens and closes it."""

    folded = pyqtSignal(bool)
    shown = pyqtSignal(bool)

    def __init__(self, title: str, opened: bool = True) -> None:
        super().__init__()
        self.head = button(title, f"Open or close {title}", "fold")
        self.note = label("", "muted")
        self.note.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 0, 0)
        top.addWidget(self.head)
        top.addStretch(1)
        top.addWidget(self.note)
        self._body = QWidget()
        self.body = QVBoxLayout(self._body)
        self.body.setContentsMargins(0, 6, 0, 0)
        self.body.setSpacing(2)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(16, 8, 14, 8)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(self._body)
        self._body.setVisible(opened)
        self.head.clicked.connect(lambda: self.set_open(self._body.isHidden()))

    def add(self, widget: QWidget) -> None:
        """Add a widget under the title."""
        self.body.addWidget(widget)

    def set_open(self, opened: bool) -> None:
        """Open or close it."""
        if opened == self._body.isHidden():
            self._body.setVisible(opened)
            self.folded.emit(opened)

    def setVisible(self, visible: bool) -> None:
        """Show it or not, and say so: the line above goes with it."""
        super().setVisible(visible)
        self.shown.emit(visible)

    @property
    def is_open(self) -> bool:
        """Whether what is under the heading is shown."""
        return not self._body.isHidden()

    def set_title(self, title: str) -> None:
        """Another title."""
        self.head.setText(title)
        self.head.setAccessibleName(title)

    def set_note(self, text: str) -> None:
        """A word at the right of the title."""
        self.note.setText(text)


class Figures(QWidget):
    """Rows of a name, an optional remark and a figure to the right."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[tuple[Label, Label, Label]] = []
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(1, 1)

    def show_rows(self, rows: list[tuple[str, str, str, str]]) -> None:
        """Each row: name, remark, figure, tooltip. Labels are kept from one showing to the next."""
        while len(self.rows) < len(rows):
            self._add_row()
        for parts, row in zip(self.rows, rows, strict=False):
            for part, text in zip(parts, row, strict=False):
                part.setText(text)
                set_tip(part, row[3])
                part.show()
        for parts in self.rows[len(rows) :]:
            for part in parts:
                part.hide()

    def _add_row(self) -> None:
        parts = (label(), label("", "muted"), label("", "figure"))
        parts[1].setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        for column, part in enumerate(parts):
            if column:
                part.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self._grid.addWidget(part, len(self.rows), column)
        self.rows.append(parts)


def rule() -> QFrame:
    """The line between two folds."""
    line = QFrame()
    line.setFixedHeight(1)
    line.setObjectName("rule")
    return line

"""What a person says of the picture, in its files."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QPlainTextEdit

from ....workspace.project.state import PublishState
from ...widgets.fold import Fold

_LINES: Final = {
    "title": ("title", "What the picture is called; empty: the project's name"),
    "authors": ("made by", "Who made it, several with commas"),
    "rights": ("rights", "How it may be used, as you want it to stand in the files"),
}
_TEXT_PX: Final = 58


class WordsFold(Fold):
    """``changed`` carries what the person has changed: its label and the values."""

    changed = pyqtSignal(str, dict)

    def __init__(self) -> None:
        super().__init__("Words in the files", opened=False)
        self.lines: dict[str, QLineEdit] = {}
        for name, (words, tip) in _LINES.items():
            line = QLineEdit()
            line.setAccessibleName(words)
            line.setPlaceholderText(words)
            line.setToolTip(tip)
            line.editingFinished.connect(lambda n=name: self._tell(n, self.lines[n].text()))
            self.lines[name] = line
            self.add(line)
        self.text = _Text()
        self.text.written.connect(lambda text: self._tell("description", text))
        self.add(self.text)
        self._state = PublishState()

    def _tell(self, name: str, text: str) -> None:
        if text.strip() != getattr(self._state, name):
            self.changed.emit(name, {name: text.strip()})

    def show_state(self, state: PublishState) -> None:
        """Show what stands there."""
        self._state = state
        for name, line in self.lines.items():
            if not line.hasFocus():
                line.setText(getattr(state, name))
        self.text.show_text(state.description)
        said = [n for n in (*_LINES, "description") if getattr(state, n)]
        self.set_note(", ".join(_LINES[n][0] if n in _LINES else n for n in said))


class _Text(QPlainTextEdit):
    written = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("description")
        self.setPlaceholderText("description")
        self.setToolTip("What is said of the picture, in its files")
        self.setFixedHeight(_TEXT_PX)
        self.setTabChangesFocus(True)

    def show_text(self, text: str) -> None:
        if not self.hasFocus() and self.toPlainText() != text:
            self.setPlainText(text)

    def focusOutEvent(self, event: object) -> None:
        super().focusOutEvent(event)  # type: ignore[arg-type]
        self.written.emit(self.toPlainText())

"""What a person says of the picture, in its files."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit

from ....workspace.project.state import PublishState
from ...widgets.fold import Fold
from ...widgets.plain import set_tip
from ...widgets.textbox import TextBox

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
            set_tip(line, tip)
            line.editingFinished.connect(lambda n=name: self._tell(n, self.lines[n].text()))
            self.lines[name] = line
            self.add(line)
        tip = "What is said of the picture, in its files"
        self.text = TextBox("description", "description", tip, _TEXT_PX)
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

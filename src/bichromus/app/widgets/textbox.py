"""A box of several lines, told when it is left."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPlainTextEdit

from .plain import set_tip


class TextBox(QPlainTextEdit):
    """``written`` carries its text when the keys go elsewhere."""

    written = pyqtSignal(str)

    def __init__(self, name: str, hint: str, tip: str, height: int) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setPlaceholderText(hint)
        set_tip(self, tip)
        self.setFixedHeight(height)
        self.setTabChangesFocus(True)

    def show_text(self, text: str) -> None:
        """Show a text, unless somebody is writing here."""
        if not self.hasFocus() and self.toPlainText() != text:
            self.setPlainText(text)

    def focusOutEvent(self, event: object) -> None:
        super().focusOutEvent(event)  # type: ignore[arg-type]
        self.written.emit(self.toPlainText())

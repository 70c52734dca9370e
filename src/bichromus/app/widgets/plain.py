"""Plain text on the screen. Qt takes text that looks like HTML for HTML, and then reads the files
that it names; names and headers come from anyone. Every label, tooltip and question of the window
is made here, and none of them ever shows rich text.
"""

from __future__ import annotations

from html import escape
from typing import Any, Final, Protocol

from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtWidgets import QLabel, QMessageBox, QToolTip, QWidget

from ...core.model.visible import visible

_LITERAL: Final = '<p style="white-space:pre-wrap">'
"""How a tooltip begins whose text would be taken for HTML: its own signs are written as text."""


class Label(QLabel):
    """A label that shows its text as it stands."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str | None) -> None:
        """Show a text; what would be acted on is shown as a sign."""
        super().setText(visible(text or "", lines=True))


class HasTip(Protocol):
    """A widget, an action or an item of a list."""

    def setToolTip(self, text: str | None, /) -> None:
        """Qt's own way, which takes text for HTML."""


def set_tip(on: HasTip, text: str) -> None:
    """Give something a tooltip of plain text."""
    on.setToolTip(tip_text(text))


def show_tip(at: QPoint, text: str, of: QWidget, where: QRect | None = None) -> None:
    """Show a tooltip of plain text at a point of the screen, for as long as the pointer stays in
    ``where``.
    """
    QToolTip.showText(at, tip_text(text), of, where or QRect())


def tip_text(text: str) -> str:
    """What Qt is given so that it shows ``text`` as it stands."""
    shown = visible(text, lines=True)
    return f"{_LITERAL}{escape(shown)}</p>" if _looks_rich(shown) else shown


def is_plain_tip(text: str) -> bool:
    """Whether a tooltip that Qt was given shows no HTML but our own paragraph."""
    return not _looks_rich(text) or (
        text.startswith(_LITERAL) and "<" not in text.removeprefix(_LITERAL).removesuffix("</p>")
    )


def menu_text(text: str) -> str:
    """A name on a button or in a menu, where Qt would take & for the mark of a key."""
    return visible(text).replace("&", "&&")


def _looks_rich(text: str) -> bool:
    qt: Any = Qt  # the stubs do not know this function
    return bool(qt.mightBeRichText(text))


def ask(window: QWidget | None, title: str, words: str) -> bool:
    """Ask a question of plain text; whether the answer is yes."""
    box = QMessageBox(window)
    box.setIcon(QMessageBox.Icon.Question)
    box.setWindowTitle(visible(title))
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(visible(words, lines=True))
    box.setStandardButtons(QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No)
    return box.exec() == QMessageBox.StandardButton.Yes

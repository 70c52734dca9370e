"""Small sheets over the stage: the why of an advice, what went wrong, the keys, and the search for
a command.
"""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.advise import Advice
from ...core.model.errors import BichromusError
from ..command import Command
from ..widgets.fold import button, label


class Sheet(QFrame):
    """A raised sheet over the window; Esc or its close button puts it away."""

    closed = pyqtSignal()

    def __init__(self, parent: QWidget, title: str, width: int) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setFixedWidth(width)
        self.setAccessibleName(title)
        self.title = label(title, "head")
        self._close = button("close", "Put this sheet away (Esc)", "quiet")
        self._close.clicked.connect(self.put_away)
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self._close)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(18, 12, 18, 16)
        self.body.setSpacing(8)
        self.body.addLayout(top)
        self.hide()

    def put_away(self) -> None:
        """Close it, and give the keys back."""
        if self.isVisible():
            self.hide()
            self.closed.emit()

    def open_at(self, x: int, y: int, below: bool = False) -> None:
        """Show with the lower left corner at (x, y), or the upper left one with ``below``."""
        self.adjustSize()
        self.move(x, y if below else y - self.height())
        self.show()
        self.raise_()
        self._close.setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.put_away()
        else:
            super().keyPressEvent(event)


class WhySheet(Sheet):
    """The figures behind an advice and the formula in words."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Why", 460)
        self._inside: QWidget | None = None

    def show_advice(self, advice: Advice) -> None:
        """Show an advice with its figures."""
        if self._inside is not None:
            self.body.removeWidget(self._inside)
            self._inside.deleteLater()
        self._inside = inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        column.addWidget(label(advice.sentence, wrap=True))
        grid = QGridLayout()
        grid.setVerticalSpacing(4)
        for number, (name, figure) in enumerate(advice.why):
            grid.addWidget(label(name, "muted"), number, 0)
            value = label(figure, "figure")
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(value, number, 1)
        column.addLayout(grid)
        if advice.formula:
            column.addWidget(label(advice.formula, "muted", wrap=True))
        self.body.addWidget(inside)


class ErrorSheet(Sheet):
    """What went wrong, one sentence each, until it is put away."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "This did not work", 560)
        self._labels: list[QWidget] = []

    def show_errors(self, errors: Sequence[BichromusError]) -> None:
        """Show what went wrong."""
        for old in self._labels:
            self.body.removeWidget(old)
            old.deleteLater()
        shown = list(errors[:6])
        self.title.setText(
            "This did not work" if len(errors) == 1 else f"{len(errors)} things did not work"
        )
        self._labels = [label(e.sentence(), wrap=True) for e in shown]
        if len(errors) > len(shown):
            self._labels.append(
                label(f"and {len(errors) - len(shown)} more of the same kind.", "muted")
            )
        for widget in self._labels:
            widget.setMinimumWidth(500)
            self.body.addWidget(widget)

    @property
    def text(self) -> str:
        """All that it says."""
        return "\n".join(w.text() for w in self._labels)  # type: ignore[attr-defined]


class KeySheet(Sheet):
    """All keys."""

    def __init__(
        self, parent: QWidget, commands: Sequence[Command], more: Sequence[tuple[str, str]]
    ) -> None:
        super().__init__(parent, "Keys", 620)
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(5)
        rows = [(c.key, c.title) for c in commands if c.key] + list(more)
        half = (len(rows) + 1) // 2
        for number, (key, words) in enumerate(rows):
            column = 0 if number < half else 2
            grid.addWidget(label(key, "figure"), number % half, column)
            grid.addWidget(label(words, "muted"), number % half, column + 1)
        self.body.addLayout(grid)


class Finder(Sheet):
    """Type a part of a command's name, Enter does it."""

    def __init__(self, parent: QWidget, commands: Sequence[Command]) -> None:
        super().__init__(parent, "Find a command", 460)
        self._commands = list(commands)
        self.found: list[Command] = []
        self.line = QLineEdit()
        self.line.setPlaceholderText("fit, balance, export, theme ...")
        self.line.setAccessibleName("search")
        self.line.textChanged.connect(self._filter)
        self.line.returnPressed.connect(self._run)
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.setAccessibleName("commands found")
        self.list.setFixedHeight(264)
        self.list.itemActivated.connect(lambda _item: self._run())
        self.list.itemClicked.connect(lambda _item: self._run())
        self.body.addWidget(self.line)
        self.body.addWidget(self.list)

    def ask(self, x: int, y: int) -> None:
        """Show it, empty, at this size."""
        self.line.clear()
        self._filter("")
        self.open_at(x, y, below=True)
        self.line.setFocus()

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self.found = [
            c
            for c in self._commands
            if c.ready() and all(w in f"{c.title} {c.group}".lower() for w in words)
        ]
        self.found.sort(
            key=lambda c: -sum(w in c.title.lower().replace(",", "").split() for w in words)
        )
        self.list.clear()
        self.list.addItems([f"{c.title}    {c.key}" if c.key else c.title for c in self.found])
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        row = self.list.currentRow()
        self.put_away()
        if 0 <= row < len(self.found):
            self.found[row].run()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(
                    min(max(self.list.currentRow() + step, 0), self.list.count() - 1)
                )
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.put_away()
                return True
        return super().eventFilter(watched, event)

"""Where the files go, and the button that writes them."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from ...widgets.fold import Fold, button, label
from ...widgets.plain import set_tip


class PlaceFold(Fold):
    """``folder_typed`` and ``name_typed`` carry what was typed; ``choosing`` and ``going`` what is
    wanted.
    """

    folder_typed = pyqtSignal(str)
    name_typed = pyqtSignal(str)
    choosing = pyqtSignal()
    going = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Place")
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.folder = QLineEdit()
        self.folder.setAccessibleName("folder")
        set_tip(self.folder, "The folder for the files")
        self.folder.editingFinished.connect(
            lambda: self.folder_typed.emit(str(Path(self.folder.text()).expanduser()))
        )
        choose = button("…", "Choose the folder")
        choose.setAccessibleName("choose the folder")
        choose.setFixedWidth(34)
        choose.clicked.connect(self.choosing)
        row.addWidget(self.folder, 1)
        row.addWidget(choose)
        self.add(place)
        self.stem = QLineEdit()
        self.stem.setAccessibleName("file name")
        set_tip(self.stem, "How the names of the files begin; a version's name comes behind")
        self.stem.editingFinished.connect(lambda: self.name_typed.emit(self.stem.text()))
        self.add(self.stem)
        self.go = button("Publish", "Write the files (Ctrl+E)", "primary")
        self.go.clicked.connect(self.going)
        self.add(self.go)
        self.outcome = label("", "muted", wrap=True)
        self.add(self.outcome)
        self.tell("")

    def show_place(self, folder: str, stem: str, ready: bool, count: int) -> None:
        """Show where they go; ``count``: of how many files."""
        if not self.folder.hasFocus():
            self.folder.setText(_short(folder))
        if not self.stem.hasFocus():
            self.stem.setText(stem)
        self.go.setEnabled(ready)
        self.set_note(f"{count} files")

    def tell(self, words: str) -> None:
        """Say what was written; nothing: nothing."""
        self.outcome.setText(words)
        self.outcome.setVisible(bool(words))


def _short(folder: str) -> str:
    """A folder as it is read: the person's own as ~."""
    path, home = Path(folder), Path.home()
    return str(Path("~") / path.relative_to(home)) if path.is_relative_to(home) else folder

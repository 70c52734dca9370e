"""A box that finds an object in the catalogue, to be taken over as a target."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QListWidget, QVBoxLayout, QWidget

from ....core.model.errors import InputError
from ....core.plan.catalogue import SOURCE, CatalogueObject, search
from ....workspace.library.things import TargetThing
from ....workspace.library.usual import catalogue_target
from ...widgets.plain import set_tip


class CatalogueBox(QWidget):
    """A line to type into, and the objects that it finds; ``found`` is the one that was chosen,
    ``failed`` why none can be.
    """

    found = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.query = QLineEdit()
        self.query.setPlaceholderText("find a target by its designation in the catalogue")
        self.query.setAccessibleName("find in the catalogue")
        set_tip(self.query, f"A designation, or a part of a name ({SOURCE})")
        self.query.textEdited.connect(self._search)
        self.results = QListWidget()
        self.results.setAccessibleName("objects found")
        self.results.setFixedHeight(96)
        self.results.itemActivated.connect(lambda _item: self.take())
        self.results.itemClicked.connect(lambda _item: self.take())
        self.results.setVisible(False)
        self._entries: list[CatalogueObject] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.query)
        column.addWidget(self.results)

    def take(self) -> None:
        """Tell the chosen object."""
        row = self.results.currentRow()
        if 0 <= row < len(self._entries):
            self.found.emit(self._entries[row])

    def _search(self, text: str) -> None:
        try:
            self._entries = search(text)
        except InputError as error:
            self._entries = []
            self.failed.emit(error.sentence())
        self.results.clear()
        self.results.addItems([_line(e) for e in self._entries])
        self.results.setVisible(bool(self._entries))


def _line(entry: CatalogueObject) -> str:
    size = f", {entry.size_arcmin[0]:g}′" if entry.size_arcmin else ""
    alias = f", {entry.aliases[0]}" if entry.aliases else ""
    return f"{entry.name}, {entry.kind}{size}{alias}"


def target_of(entry: CatalogueObject) -> TargetThing:
    """An object that was found as a target."""
    position = entry.ra, entry.dec
    return catalogue_target(
        entry.name, entry.aliases, position, entry.size_arcmin, entry.group, SOURCE, entry.angle
    )

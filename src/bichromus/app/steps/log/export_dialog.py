"""What is handed over: whose part, and what goes with it."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QVBoxLayout, QWidget

from ....workspace.handover.controller import Wanted
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.plain import set_tip


class ExportDialog(QDialog):
    """``wanted`` is what was chosen; what is not there cannot be."""

    def __init__(
        self,
        stations: list[str],
        kept: dict[str, int],
        versions: int,
        channels: int,
        parent: QWidget,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Export a contribution")
        self.setMinimumWidth(420)
        self._kept, self._stations = kept, stations
        self.station = ChoiceBox("station", "Whose part is handed over")
        for name in stations:
            self.station.addItem(name)
        self.station.activated.connect(lambda _: self._show())
        self.subs = QCheckBox()
        set_tip(self.subs, "Copies of the kept subs, for whoever wants to stack them again")
        self.masters = QCheckBox("the pooled channels in place of the stacks")
        set_tip(
            self.masters,
            f"{channels} channels as they are used here: registered, their gradient taken off",
        )
        self.masters.setEnabled(channels > 0)
        self.recipes = QCheckBox(f"the recipes of the versions ({versions})")
        set_tip(self.recipes, "They hang on the other's wall, on the other's own channels")
        self.recipes.setEnabled(versions > 0)
        for box in (self.subs, self.masters, self.recipes):
            box.setAccessibleName(box.text() or "kept subs")
        column = QVBoxLayout(self)
        column.addWidget(label("Whose part?", "head"))
        column.addWidget(self.station)
        column.addSpacing(8)
        column.addWidget(label("With its hours and its stacks, also", "muted"))
        for box in (self.masters, self.subs, self.recipes):
            column.addWidget(box)
        column.addSpacing(8)
        foot = QHBoxLayout()
        foot.addStretch(1)
        away = button("Cancel", "Export nothing (Esc)")
        away.clicked.connect(self.reject)
        go = button("Choose a folder…", "An empty folder for it (Enter)", "primary")
        go.setDefault(True)
        go.clicked.connect(self.accept)
        foot.addWidget(away)
        foot.addWidget(go)
        column.addLayout(foot)
        self._show()

    def _show(self) -> None:
        count = self._kept.get(self.station.currentText(), 0)
        self.subs.setText(f"the kept subs ({count})")
        self.subs.setEnabled(count > 0)
        if not count:
            self.subs.setChecked(False)

    @property
    def wanted(self) -> Wanted:
        """What was chosen."""
        return Wanted(
            self.station.currentText(),
            self.subs.isChecked(),
            self.recipes.isChecked(),
            self.masters.isChecked(),
        )

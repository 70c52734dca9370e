"""The sheet of things known once: sites, rigs, filters and targets, each field typed in plain
words.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ValidationError
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....core.model.errors import BichromusError, InputError
from ....core.plan.catalogue import CatalogueObject
from ....core.plan.horizon import read_horizon
from ....workspace.library.files import read_things, save_things, with_things
from ....workspace.library.things import FilterThing, RigThing, SiteThing, TargetThing
from ....workspace.project.document import Command
from ....workspace.project.folders import local_zone
from ....workspace.project.state import ProjectState
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from .catalogue import CatalogueBox, target_of
from .skyline import SkylineEditor
from .thing_fields import HINTS, WORDS, from_text, to_text

_FIRST_FILTERS: tuple[Literal["Ha", "O3", "S2"], ...] = ("Ha", "O3", "S2")
KINDS: dict[str, tuple[str, BaseModel]] = {
    "sites": ("site", SiteThing(name="New site", lat=0.0, lon=0.0)),
    "rigs": (
        "rig",
        RigThing(
            name="New rig", aperture_mm=80, focal_mm=400, pixel_um=3.76, sensor_px=(4144, 2822)
        ),
    ),
    "filters": ("filter", FilterThing(channel="Ha", width_nm=3.0)),
    "targets": ("target", TargetThing(name="New target", ra=0.0, dec=0.0)),
}


class ThingsDialog(QDialog):
    """Kind above, names to the left, fields to the right; each field is a command when it
    is left.
    """

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sites, rigs, filters, targets")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(660, 640)
        self._session = session
        self.kind = ChoiceBox("kind of thing", "What to look at")
        self.kind.addItems(list(KINDS))
        self.kind.activated.connect(lambda _i: self.show_kind())
        self.names = QListWidget()
        self.names.setAccessibleName("names")
        self.names.setFixedWidth(180)
        self.names.currentRowChanged.connect(lambda _row: self._show_fields())
        self.fields: dict[str, QLineEdit] = {}
        self._form = QWidget()
        self._grid = QGridLayout(self._form)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self._form)
        self.message = label("", "muted", wrap=True)
        self.skyline = SkylineEditor()
        self.skyline.drawn.connect(self._take_points)
        self.catalogue = CatalogueBox()
        self.catalogue.found.connect(self.take_found)
        self.catalogue.failed.connect(self.message.setText)
        row = QHBoxLayout()
        for words, tip, work in (
            ("Add", "A new one of this kind", self.add),
            ("Remove", "Take the chosen one out; undo brings it back", self.remove),
            (
                "Horizon from CSV…",
                "azimuth_deg,altitude_deg for the chosen site",
                self.choose_horizon,
            ),
            ("Import…", "Take things in from a JSON file", self.choose_import),
            ("Export…", "All things into a JSON file", self.choose_export),
        ):
            made = button(words, tip)
            made.clicked.connect(work)
            row.addWidget(made)
        body = QHBoxLayout()
        body.addWidget(self.names)
        body.addWidget(area, 1)
        column = QVBoxLayout(self)
        column.addWidget(self.kind)
        column.addWidget(self.catalogue)
        column.addLayout(body, 1)
        column.addWidget(self.skyline)
        column.addWidget(self.message)
        column.addLayout(row)
        self.show_kind()

    @property
    def _kind(self) -> str:
        return self.kind.currentText()

    def _things(self) -> tuple[Any, ...]:
        return tuple(getattr(self._session.state.plan, self._kind))

    def show_kind(self, row: int = 0) -> None:
        """List the things of the chosen kind."""
        self.names.blockSignals(True)
        self.names.clear()
        self.names.addItems([str(getattr(t, "name", None) or t.channel) for t in self._things()])
        self.names.blockSignals(False)
        self.names.setCurrentRow(min(row, self.names.count() - 1))
        self._show_fields()

    def _show_fields(self) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.fields = {}
        self.catalogue.setVisible(self._kind == "targets")
        row = self.names.currentRow()
        self.skyline.setVisible(self._kind == "sites" and row >= 0)
        if not 0 <= row < len(self._things()):
            return
        thing = self._things()[row]
        if isinstance(thing, SiteThing):
            self.skyline.show_points(thing.horizon)
        for number, name in enumerate(type(thing).model_fields):
            words = WORDS.get(name, name.replace("_", " "))
            line = QLineEdit(to_text(getattr(thing, name)))
            line.setAccessibleName(words)
            line.setToolTip(HINTS.get(name, words))
            line.setPlaceholderText(HINTS.get(name, ""))
            line.editingFinished.connect(lambda n=name: self._take(n))
            self.fields[name] = line
            self._grid.addWidget(label(words, "muted"), number, 0)
            self._grid.addWidget(line, number, 1)
        self._grid.setRowStretch(len(self.fields), 1)

    def _take(self, name: str) -> None:
        """Take a field over, or say why not and bring back what was there."""
        row, things = self.names.currentRow(), self._things()
        if not 0 <= row < len(things):
            return
        thing, line = things[row], self.fields[name]
        if line.text() == to_text(getattr(thing, name)):
            return
        try:
            changed = type(thing).model_validate(
                {**thing.model_dump(), name: from_text(name, line.text())}
            )
        except (ValidationError, ValueError, InputError) as error:
            why = (
                error.errors()[0]["msg"]
                if isinstance(error, ValidationError)
                else HINTS.get(name, str(error))
            )
            self.message.setText(f"{name.replace('_', ' ')} stays as it was: {why}.")
            line.setText(to_text(getattr(thing, name)))
            return
        self.message.setText("")
        self._keep(
            f"change {name.replace('_', ' ')}", (*things[:row], changed, *things[row + 1 :]), row
        )

    def _keep(self, words: str, things: tuple[Any, ...], row: int) -> None:
        changes: dict[str, Any] = {self._kind: [t.model_dump() for t in things]}
        self._session.planning.set_plan(words, **changes)
        self.show_kind(row)

    def add(self) -> None:
        """A new thing with sensible figures."""
        words, fresh = KINDS[self._kind]
        if isinstance(fresh, SiteThing):
            fresh = fresh.model_copy(update={"time_zone": local_zone()})
        things: dict[str, Any] = {
            self._kind: [*(t.model_dump() for t in self._things()), fresh.model_dump()]
        }
        if self._kind == "rigs" and not self._session.state.plan.filters:
            # a first rig comes with the three filters that most people put before it
            things["filters"] = [
                FilterThing(channel=c, width_nm=3.0).model_dump() for c in _FIRST_FILTERS
            ]
        row = len(self._things())
        self._session.planning.set_plan(f"add a {words}", **things)
        self.show_kind(row)
        first = next(iter(self.fields.values()), None)
        if first is not None:
            first.setFocus()
            first.selectAll()

    def remove(self) -> None:
        """Take the chosen one out."""
        row, things = self.names.currentRow(), self._things()
        if 0 <= row < len(things):
            self._keep(
                f"remove a {KINDS[self._kind][0]}",
                (*things[:row], *things[row + 1 :]),
                max(row - 1, 0),
            )

    def take_found(self, entry: CatalogueObject) -> None:
        """Add an object of the catalogue as a target."""
        self.message.setText("Its lines are a guess until you type their brightness.")
        target = target_of(entry)
        self._keep("add a target", (*self._things(), target), len(self._things()))

    def _take_points(self, points: tuple[tuple[float, float], ...]) -> None:
        row, things = self.names.currentRow(), self._things()
        if 0 <= row < len(things):
            changed = things[row].model_copy(update={"horizon": points})
            self._keep("draw the horizon", (*things[:row], changed, *things[row + 1 :]), row)

    def choose_horizon(self) -> None:
        """Choose the CSV of a horizon."""
        path, _ = QFileDialog.getOpenFileName(self, "Horizon", str(Path.home()), "CSV (*.csv)")
        if path:
            self.take_horizon(Path(path))

    def take_horizon(self, path: Path) -> None:
        """The horizon of the chosen site from a CSV."""
        row, things = self.names.currentRow(), self._things()
        if self._kind != "sites" or not 0 <= row < len(things):
            self.message.setText("Choose a site first.")
            return
        try:
            horizon = read_horizon(path)
        except InputError as error:
            self.message.setText(error.sentence())
            return
        changed = things[row].model_copy(update={"horizon": horizon.points})
        self._keep("take a horizon", (*things[:row], changed, *things[row + 1 :]), row)

    def choose_import(self) -> None:
        """Choose a file of things to take in."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Import things", str(Path.home()), "JSON (*.json)"
        )
        if path:
            self.take_in(Path(path))

    def take_in(self, path: Path) -> None:
        """Add the things of a file."""
        try:
            found = read_things(path)
        except InputError as error:
            self.message.setText(error.sentence())
            return

        def change(state: ProjectState) -> ProjectState:
            return state.model_copy(update={"plan": with_things(state.plan, found)})

        self._session.do(Command("import things", change))
        self.show_kind()

    def choose_export(self) -> None:
        """Choose where all things go."""
        path, _ = QFileDialog.getSaveFileName(
            self, "Export things", str(Path.home() / "things.json"), "JSON (*.json)"
        )
        if path:
            self.write_out(Path(path))

    def write_out(self, path: Path) -> None:
        """All things into a file."""
        try:
            save_things(self._session.state.plan, path, overwrite=True)
            self.message.setText(f"Written: {path.name}.")
        except BichromusError as error:
            self.message.setText(error.sentence())

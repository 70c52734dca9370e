"""The sheet of things known once: sites, rigs, filters and targets, each field typed in plain
words. Those of the project come first, then those that only the library has.
"""

from __future__ import annotations

from pathlib import Path
from typing import Final

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QFileDialog,
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
from ....workspace.library.things import (
    KINDS,
    AnyThing,
    RigThing,
    SiteThing,
    TargetThing,
    ThingKind,
)
from ....workspace.library.usual import usual_filter
from ....workspace.planning.library import Listed
from ....workspace.project.folders import local_zone
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.plain import set_tip
from .catalogue import CatalogueBox, target_of
from .skyline import SkylineEditor
from .thing_form import ThingForm

_FIRST_FILTERS: Final = ("Ha", "O3", "S2")
FRESH: Final[dict[ThingKind, AnyThing]] = {
    "sites": SiteThing(name="New site", lat=0.0, lon=0.0),
    "rigs": RigThing(
        name="New rig", aperture_mm=80, focal_mm=400, pixel_um=3.76, sensor_px=(4144, 2822)
    ),
    "filters": usual_filter("Ha").model_copy(update={"name": "New filter"}),
    "targets": TargetThing(name="New target", ra=0.0, dec=0.0),
}
_NAMES_PX: Final = 200


class ThingsDialog(QDialog):
    """Kind above, names to the left, fields to the right; each field is kept when it is left."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sites, rigs, filters, targets")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(760, 700)
        self._session, self._library = session, session.library
        self.kind = ChoiceBox("kind of thing", "What to look at")
        self.kind.addItems(list(KINDS))
        self.kind.activated.connect(lambda _i: self.show_kind())
        self.names = QListWidget()
        self.names.setAccessibleName("names")
        self.names.setFixedWidth(_NAMES_PX)
        self.names.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.names.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.names.currentRowChanged.connect(lambda _row: self._show_fields())
        self.form = ThingForm()
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.form)
        self.message = label("", "muted", wrap=True)
        self.form.edited.connect(self._take)
        self.form.refused.connect(self.message.setText)
        self.skyline = SkylineEditor()
        self.skyline.drawn.connect(self._take_points)
        self.catalogue = CatalogueBox()
        self.catalogue.found.connect(self.take_found)
        self.catalogue.failed.connect(self.message.setText)
        self.where = label("", "muted", wrap=True)
        self.actions_ = self._action_row()
        body = QHBoxLayout()
        body.addWidget(self.names)
        right = QVBoxLayout()
        right.addWidget(self.where)
        right.addWidget(area, 1)
        body.addLayout(right, 1)
        column = QVBoxLayout(self)
        column.addWidget(self.kind)
        column.addWidget(self.catalogue)
        column.addLayout(body, 1)
        column.addWidget(self.skyline)
        column.addWidget(self.message)
        column.addLayout(self.actions_)
        column.addLayout(self._file_row())
        self._listed: list[Listed] = []
        self._library.changed.connect(self._follow)
        self.finished.connect(lambda _result: self._library.changed.disconnect(self._follow))
        self.show_kind()

    def _action_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.use_button = button("Use here", "Take it into this project, and choose it", "primary")
        self.use_button.clicked.connect(self.use)
        self.keep_button = button(
            "Keep in the library", "For all projects, in the place of what is there"
        )
        self.keep_button.clicked.connect(self.keep)
        self.renew_button = button("As in the library", "Take the library's figures over")
        self.renew_button.clicked.connect(self.renew)
        self.back_button = button("Put back", "What was removed from the library last")
        self.back_button.clicked.connect(self.put_back)
        self.strangers_button = button(
            "Keep all in the library",
            "Things of this project that the library does not know, of all kinds",
        )
        self.strangers_button.clicked.connect(self.keep_all)
        for made in (
            self.use_button,
            self.keep_button,
            self.renew_button,
            self.back_button,
            self.strangers_button,
        ):
            row.addWidget(made)
        row.addStretch(1)
        return row

    def _file_row(self) -> QHBoxLayout:
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
            if work == self.choose_horizon:
                self.horizon_button = made
        return row

    @property
    def _kind(self) -> ThingKind:
        return next(k for k in KINDS if k == self.kind.currentText())

    def _chosen(self) -> Listed | None:
        row = self.names.currentRow()
        return self._listed[row] if 0 <= row < len(self._listed) else None

    def _follow(self) -> None:
        chosen = self._chosen()
        self.show_kind(name=chosen.name if chosen else "")

    def show_kind(self, row: int = 0, name: str = "") -> None:
        """List the things of the chosen kind."""
        self._listed = self._library.listed(self._kind)
        names = [x.name for x in self._listed]
        self.names.blockSignals(True)
        self.names.clear()
        self.names.addItems(
            [x.name + ("" if x.in_project else "  (library)") for x in self._listed]
        )
        for number, whole in enumerate(names):
            item = self.names.item(number)
            if item is not None:
                set_tip(item, whole)
        self.names.blockSignals(False)
        row = names.index(name) if name in names else min(row, len(names) - 1)
        self.names.setCurrentRow(row)
        self._show_fields()

    def _show_fields(self) -> None:
        self.catalogue.setVisible(self._kind == "targets")
        chosen = self._chosen()
        self.skyline.setVisible(self._kind == "sites" and chosen is not None)
        self.horizon_button.setVisible(self._kind == "sites")
        self._show_where(chosen)
        self.form.show_thing(chosen.thing if chosen is not None else None)
        if chosen is not None and isinstance(chosen.thing, SiteThing):
            self.skyline.show_points(chosen.thing.horizon)

    def _show_where(self, chosen: Listed | None) -> None:
        """Where the chosen thing is kept, and what can be done about it."""
        self.use_button.setVisible(chosen is not None and not chosen.in_project)
        demo = chosen is not None and chosen.thing.demo
        differs = chosen is not None and chosen.other is not None
        alone = chosen is not None and chosen.in_project and not chosen.in_library and not demo
        self.keep_button.setVisible(alone or differs)
        self.renew_button.setVisible(differs)
        self.back_button.setVisible(self._library.dropped is not None)
        strangers = self._library.strangers()
        count = sum(len(getattr(strangers, k)) for k in KINDS)
        self.strangers_button.setVisible(count > int(alone))
        self.strangers_button.setText(f"Keep all {count} in the library")
        if chosen is None:
            words = ""
        elif demo:
            words = "The demo's: it stays in this project, apart from your own."
        elif differs:
            words = "In this project and in your library, with other figures."
        elif not chosen.in_project:
            words = "In your library, not in this project yet."
        elif alone:
            words = "In this project only."
        else:
            words = "In this project and in your library."
        fault = self._library.library.fault
        self.where.setText(fault.sentence() if fault is not None else words)

    @property
    def fields(self) -> dict[str, QLineEdit | ChoiceBox]:
        """The fields of the chosen thing by name."""
        return self.form.fields

    def _take(self, name: str, changed: AnyThing) -> None:
        chosen = self._chosen()
        if chosen is not None:
            self.message.setText("")
            self._edit(chosen, changed, f"change {name.replace('_', ' ')}")

    def _edit(self, chosen: Listed, changed: AnyThing, words: str) -> None:
        done = self._library.edit(self._kind, chosen.name, changed, words)
        self.show_kind(name=changed.name if done else chosen.name)

    # --- gestures ---

    def add(self) -> None:
        """A new thing with sensible figures."""
        fresh = FRESH[self._kind]
        if isinstance(fresh, SiteThing):
            fresh = fresh.model_copy(update={"time_zone": local_zone()})
        if self._kind == "rigs" and not self._session.state.plan.filters:
            # a first rig comes with the three filters that most people put before it
            self._library.add_filters([usual_filter(n) for n in _FIRST_FILTERS])
        added = self._library.add(self._kind, fresh)
        if added is None:
            return
        self.show_kind(name=added.name)
        first = next(iter(self.fields.values()), None)
        if isinstance(first, QLineEdit):
            first.setFocus()
            first.selectAll()

    def remove(self) -> None:
        """Take the chosen one out."""
        chosen, row = self._chosen(), self.names.currentRow()
        if chosen is not None:
            self._library.remove(self._kind, chosen.name)
            self.show_kind(max(row - 1, 0), chosen.name)

    def use(self) -> None:
        """Take the chosen one of the library into the project."""
        chosen = self._chosen()
        if chosen is not None and self._library.use(self._kind, chosen.name):
            self.show_kind(name=chosen.name)

    def keep(self) -> None:
        """The project's copy of the chosen one into the library."""
        chosen = self._chosen()
        if chosen is not None:
            self._library.keep(self._kind, chosen.name)

    def renew(self) -> None:
        """The library's copy of the chosen one into the project."""
        chosen = self._chosen()
        if chosen is not None and self._library.renew(self._kind, chosen.name):
            self.show_kind(name=chosen.name)

    def keep_all(self) -> None:
        """All things that only this project has into the library."""
        self._library.keep_strangers()

    def put_back(self) -> None:
        """What was removed from the library last."""
        self._library.put_back()

    def take_found(self, entry: CatalogueObject) -> None:
        """Add an object of the catalogue as a target."""
        self.message.setText("Its brightness is a guess by its kind until you type it.")
        added = self._library.add("targets", target_of(entry), "add a target")
        if added is not None:
            self.show_kind(name=added.name)

    def _take_points(self, points: tuple[tuple[float, float], ...]) -> None:
        chosen = self._chosen()
        if chosen is not None:
            changed = chosen.thing.model_copy(update={"horizon": points})
            self._edit(chosen, changed, "draw the horizon")

    def choose_horizon(self) -> None:
        """Choose the CSV of a horizon."""
        path, _ = QFileDialog.getOpenFileName(self, "Horizon", str(Path.home()), "CSV (*.csv)")
        if path:
            self.take_horizon(Path(path))

    def take_horizon(self, path: Path) -> None:
        """The horizon of the chosen site from a CSV."""
        chosen = self._chosen()
        if self._kind != "sites" or chosen is None:
            self.message.setText("Choose a site first.")
            return
        try:
            horizon = read_horizon(path)
        except InputError as error:
            self.message.setText(error.sentence())
            return
        changed = chosen.thing.model_copy(update={"horizon": horizon.points})
        self._edit(chosen, changed, "take a horizon")

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
            self._library.take_in(path)
        except BichromusError as error:
            self.message.setText(error.sentence())
            return
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
            self._library.write_out(path)
            self.message.setText(f"Written: {path.name}.")
        except BichromusError as error:
            self.message.setText(error.sentence())

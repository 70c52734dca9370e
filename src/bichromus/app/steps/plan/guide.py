"""First set-up: where, with what, through which filters, what. Each part is kept as it is done, so
that it can be left half done; what the library knows is offered.
"""

from __future__ import annotations

from typing import Final

from pydantic import ValidationError
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....core.plan.catalogue import CatalogueObject
from ....workspace.library.settings import Settings
from ....workspace.library.things import (
    AnyThing,
    RigThing,
    SiteThing,
    ThingKind,
)
from ....workspace.library.usual import usual_filter
from ....workspace.planning.library import ONE
from ....workspace.project.folders import local_zone
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.plain import set_tip
from .catalogue import CatalogueBox, target_of
from .thing_form import ThingForm

_WIDE: Final = 560
_KEY: Final = "plan_guide"
FILTERS: Final = ("Ha", "O3", "S2", "Ha+O3", "O3+S2", "L", "R", "G", "B", "R+G+B")
"""Filters that are offered: single lines, two at once, colours, and all colours at once."""
_FIRST: Final[dict[ThingKind, AnyThing]] = {
    "sites": SiteThing(name="Home", lat=0.0, lon=0.0),
    "rigs": RigThing(
        name="My rig", aperture_mm=80, focal_mm=400, pixel_um=3.76, sensor_px=(6248, 4176)
    ),
}
_FIELDS: Final[dict[ThingKind, tuple[str, ...]]] = {
    "sites": ("name", "lat", "lon", "sky_mag"),
    "rigs": ("name", "aperture_mm", "focal_mm", "pixel_um", "sensor_px", "colour"),
}


class GuidePart(QFrame):
    """A heading, a line that says what is chosen, and what is there to choose it."""

    def __init__(self, title: str, words: str) -> None:
        super().__init__()
        self.title = button(title, f"Open or close: {title[3:]}", "fold")
        self.title.clicked.connect(lambda: self.body.setVisible(self.body.isHidden()))
        self.words = label(words, "muted", wrap=True)
        self.said = label("", "figure")
        self._now: bool | None = None
        top = QHBoxLayout()
        top.addWidget(self.title)
        top.addStretch(1)
        top.addWidget(self.said)
        self.body = QWidget()
        self.inside = QVBoxLayout(self.body)
        self.inside.setContentsMargins(0, 2, 0, 6)
        self.inside.addWidget(self.words)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 2)
        column.addLayout(top)
        column.addWidget(self.body)

    def show_done(self, said: str, now: bool) -> None:
        """What was chosen, if anything was; ``now``: it is what is to be done next."""
        if (said, now) != (self.said.text(), self._now):
            self.body.setVisible(now)
        self.said.setText(said)
        self._now = now


class OfferRow(QWidget):
    """Things of the library to choose from."""

    chosen = pyqtSignal(str)

    def __init__(self, kind: ThingKind) -> None:
        super().__init__()
        words = f"one of your library's {kind}"
        self.box = ChoiceBox(words, "Things that you typed for another project")
        self.take = button("Use it", f"Take this {ONE[kind]} into the project")
        self.take.clicked.connect(lambda: self.chosen.emit(self.box.currentText()))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.box, 1)
        row.addWidget(self.take)

    def show_names(self, names: list[str]) -> None:
        """What can be chosen; gone where nothing can."""
        if [self.box.itemText(i) for i in range(self.box.count())] != names:
            self.box.clear()
            self.box.addItems(names)
        self.setVisible(bool(names))


class GuidePage(QScrollArea):
    """The page in place of a plan that lacks something."""

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__()
        self._session, self._settings = session, settings
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.errors = label("", "title", wrap=True)
        self.words = label(
            "A plan needs four things. They are typed once, and kept for all projects.", "muted"
        )
        self.message = label("", "wants", wrap=True)
        self.parts: dict[ThingKind, GuidePart] = {
            "sites": GuidePart(
                "1  Where",
                "Latitude and longitude in degrees, north and east "
                "positive; the sky's brightness, or its Bortle class.",
            ),
            "rigs": GuidePart("2  With what", "Telescope and camera; the rest can wait."),
            "filters": GuidePart(
                "3  Which filters",
                "Those that you own: lines, two lines at once for a colour camera, colours.",
            ),
            "targets": GuidePart("4  What", "A designation, as the catalogues have it."),
        }
        self.offers = {kind: OfferRow(kind) for kind in self.parts}
        self.forms = {kind: ThingForm(fields) for kind, fields in _FIELDS.items()}
        self.adds = {
            kind: button(f"Keep this {ONE[kind]}", "In this project and in your library", "primary")
            for kind in ("sites", "rigs", "filters")
        }
        self.chips: dict[str, QPushButton] = {}
        self.width_line = QLineEdit("3")
        self.catalogue = CatalogueBox()
        self.whole = False
        self._drafts: dict[str, AnyThing] = {}
        self._fill()
        self._load_drafts()

    def _fill(self) -> None:
        page, centre = QWidget(), QWidget()
        centre.setFixedWidth(_WIDE)
        column = QVBoxLayout(centre)
        column.setSpacing(4)
        column.addStretch(1)
        column.addWidget(self.errors)
        column.addWidget(
            label(
                "A plan needs four things. They are typed once, and kept for all projects.", "muted"
            )
        )
        for kind, part in self.parts.items():
            offer = self.offers[kind]
            offer.chosen.connect(lambda name, k=kind: self._session.library.use(k, name))
            part.inside.addWidget(offer)
            column.addWidget(part)
        for kind, form in self.forms.items():
            form.edited.connect(lambda _name, thing, k=kind: self._draft(k, thing))
            form.refused.connect(self.message.setText)
            self.adds[kind].clicked.connect(lambda _on, k=kind: self.keep(k))
            self.parts[kind].inside.addWidget(form)
            self._add_button(kind)
        self.parts["filters"].inside.addLayout(self._chip_row())
        self.adds["filters"].setText("Keep these filters")
        self.adds["filters"].clicked.connect(self.keep_filters)
        self._add_button("filters")
        self.parts["targets"].inside.addWidget(self.catalogue)
        self.catalogue.found.connect(self.take_found)
        self.catalogue.failed.connect(self.message.setText)
        column.addWidget(self.message)
        column.addStretch(2)
        row = QHBoxLayout(page)
        row.addStretch(1)
        row.addWidget(centre)
        row.addStretch(1)
        self.setWidget(page)

    def _add_button(self, kind: ThingKind) -> None:
        self.parts[kind].inside.addWidget(self.adds[kind], 0, Qt.AlignmentFlag.AlignRight)

    def _chip_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)
        for name in FILTERS:
            chip = button(name, f"A filter for {name.replace('+', ' and ')}", "chip")
            chip.setCheckable(True)
            self.chips[name] = chip
            row.addWidget(chip)
        row.addStretch(1)
        self.width_line.setFixedWidth(48)
        self.width_line.setAccessibleName("width of the lines' filters, nm")
        set_tip(self.width_line, "Width of the lines' filters in nm, as 3 or 6.5")
        row.addWidget(self.width_line)
        row.addWidget(label("nm wide", "muted"))
        return row

    # --- drafts: what was typed, and not kept yet ---

    def _load_drafts(self) -> None:
        kept = self._settings.get_as(_KEY, dict) or {}
        for kind, first in _FIRST.items():
            try:
                draft = type(first).model_validate({**first.model_dump(), **kept.get(kind, {})})
            except (ValidationError, TypeError):
                draft = first
            if isinstance(draft, SiteThing) and draft == first:
                draft = draft.model_copy(update={"time_zone": local_zone()})
            self._drafts[kind] = draft
            self.forms[kind].show_thing(draft)

    def _draft(self, kind: ThingKind, thing: AnyThing) -> None:
        self.message.setText("")
        self._drafts[kind] = thing
        self._keep_drafts()

    def _keep_drafts(self) -> None:
        kept = {k: thing.model_dump(mode="json") for k, thing in self._drafts.items()}
        self._settings.set(_KEY, kept)

    # --- gestures ---

    def keep(self, kind: ThingKind) -> None:
        """What was typed, in the project and in the library."""
        thing = self._drafts[kind]
        if isinstance(thing, SiteThing) and (thing.lat, thing.lon) == (0.0, 0.0):
            self.message.setText("Type the latitude and the longitude first.")
            self.forms[kind].fields["lat"].setFocus()
            return
        added = self._session.library.add(kind, thing)
        if added is not None:
            self._session.library.use(kind, added.name)
            self._drafts[kind] = _FIRST[kind]
            self._keep_drafts()

    def keep_filters(self) -> None:
        """The filters that are ticked."""
        try:
            width = float(self.width_line.text().replace(",", "."))
            made = [usual_filter(n, width) for n, chip in self.chips.items() if chip.isChecked()]
        except (ValueError, ValidationError):
            self.message.setText("Type the width of the lines' filters in nm, as 3 or 6.5.")
            return
        if not made:
            self.message.setText("Tick the filters that you own.")
            return
        self.message.setText("")
        self._session.library.add_filters(made)

    def take_found(self, entry: CatalogueObject) -> None:
        """An object of the catalogue as the target."""
        added = self._session.library.add("targets", target_of(entry), "add a target")
        if added is not None:
            self._session.library.use("targets", added.name)

    # --- what is shown ---

    def show_state(self, error: str) -> None:
        """What is chosen, what is missing, and what is wrong otherwise."""
        plan = self._session.state.plan
        rig = next((r for r in plan.rigs if r.name == plan.rig), next(iter(plan.rigs), None))
        site = next((s for s in plan.sites if s.name == plan.site), next(iter(plan.sites), None))
        target = next(
            (t for t in plan.targets if t.name == plan.target), next(iter(plan.targets), None)
        )
        filters = plan.filters_of(rig) if rig is not None else plan.filters
        done: dict[ThingKind, str] = {
            "sites": site.name if site else "",
            "rigs": rig.name if rig else "",
            "filters": ", ".join(f.name for f in filters),
            "targets": target.name if target else "",
        }
        following = next((k for k, said in done.items() if not said), None)
        for kind, part in self.parts.items():
            part.show_done(done[kind], kind == following)
        listed = self._session.library.listed
        for kind, offer in self.offers.items():
            offer.show_names([x.name for x in listed(kind) if not x.in_project])
        self.whole = following is None
        self.errors.setText(error if self.whole else "Plan a night")
        self.words.setVisible(not self.whole)
        if rig is not None and not any(c.isChecked() for c in self.chips.values()):
            for name in ("Ha+O3", "R+G+B") if rig.colour else ("Ha", "O3", "S2"):
                self.chips[name].setChecked(True)

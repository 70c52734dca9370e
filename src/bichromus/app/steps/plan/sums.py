"""The sheet of sums that are done on paper: spacing, the guider's branch, what fills the frame,
mono against colour, and two filters by their own stacks.
"""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QFrame,
    QGridLayout,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....core.model.errors import InputError
from ....core.plan.framing import field_of
from ....core.plan.sums import (
    FILLS,
    Spacing,
    back_focus,
    focal_for,
    guider_branch,
    mono_and_colour,
    worth_of_hour,
)
from ....workspace.library.things import RigThing
from ....workspace.planning.stations import aim_of
from ....workspace.planning.view import PlanView
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, label
from ...widgets.plain import set_tip
from ...widgets.text import clock_text

_LINES = ("Ha", "O3", "S2", "Hb")
_NARROW_NM = 3.0
_SMALL, _FULL = 0.4, 1.0
"""Shares of the field below which a target is small in it, and above which it does not fit."""


class TypedFold(Fold):
    """Lines to type into, and a sentence that follows them."""

    def __init__(self, title: str, fields: dict[str, tuple[str, str]]) -> None:
        """``fields``: what is shown at first and the tooltip, by name."""
        super().__init__(title)
        self.lines: dict[str, QLineEdit] = {}
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 0, 0)
        for row, (name, (text, tip)) in enumerate(fields.items()):
            line = QLineEdit(text)
            line.setAccessibleName(name)
            set_tip(line, tip)
            line.textChanged.connect(lambda _text: self.reckon())
            self.lines[name] = line
            grid.addWidget(label(name, "muted"), row, 0)
            grid.addWidget(line, row, 1)
        self.said = label("", "head", wrap=True)
        self.add(inside)
        self.add(self.said)

    def reckon(self) -> None:
        """Say what comes of what was typed."""
        try:
            self.said.setText(self.answer())
        except InputError as error:
            self.said.setText(error.sentence())
        except ValueError:
            self.said.setText("Write figures, several with blanks between.")

    def answer(self) -> str:
        """What comes of it. Raises ValueError, InputError."""
        raise NotImplementedError

    def figures(self, name: str) -> list[float]:
        """The figures of a line."""
        return [float(p) for p in self.lines[name].text().replace(",", ".").split()]

    def figure(self, name: str) -> float:
        """The one figure of a line; 0 where it is empty."""
        found = self.figures(name)
        return found[0] if found else 0.0


class SpacingFold(TypedFold):
    """From the reducer to the sensor."""

    def __init__(self, glass_mm: float) -> None:
        super().__init__(
            "Spacing behind a reducer or flattener",
            {
                "back focus, mm": ("55", "What the reducer wants from its last thread"),
                "parts, mm": ("17.5 21 16.5", "Every part up to the sensor, blanks between"),
                "glass, mm": (f"{glass_mm:g}", "Thickness of filters and windows in between"),
            },
        )
        self.reckon()

    def answer(self) -> str:
        found = back_focus(
            self.figure("back focus, mm"), self.figures("parts, mm"), self.figure("glass, mm")
        )
        return f"{found.parts_mm:.1f} of {found.wanted_mm:.1f} mm: {_change(found)}"


class GuiderFold(TypedFold):
    """The off-axis guider's branch."""

    def __init__(self, glass_mm: float) -> None:
        super().__init__(
            "Guide camera at the prism",
            {
                "prism to sensor, mm": ("20 17.5 12.5", "Every part from the prism to the sensor"),
                "prism to guider, mm": ("30 12.5", "Every part from the prism to its sensor"),
                "glass, mm": (f"{glass_mm:g}", "Filters behind the prism"),
            },
        )
        self.reckon()

    def answer(self) -> str:
        found = guider_branch(
            self.figures("prism to sensor, mm"),
            self.figures("prism to guider, mm"),
            self.figure("glass, mm"),
        )
        return f"{found.parts_mm:.1f} of {found.wanted_mm:.1f} mm: {_change(found)}"


def _change(found: Spacing) -> str:
    if found.fits:
        return "it fits."
    return f"{'add' if found.add_mm > 0 else 'take away'} {abs(found.add_mm):.1f} mm."


class FrameFold(Fold):
    """Which optics fill the frame with the plan's target."""

    def __init__(self, session: Session, view: PlanView) -> None:
        super().__init__(f"What fills the frame with {view.target.name}")
        size = view.target.size_arcmin[0] / 60, view.target.size_arcmin[1] / 60
        rows = []
        for x in session.library.listed("rigs"):
            rig = x.thing
            if not isinstance(rig, RigThing):
                continue
            best = focal_for(rig.sensor_mm, size)
            share = max(size) / max(field_of(s, rig.focal) for s in rig.sensor_mm)
            words = "wants panels" if share > _FULL else "small" if share < _SMALL else "fills it"
            rows.append(
                (
                    x.name,
                    f"{100 * share:.0f} % of the field, {words}",
                    f"{best:.0f} mm",
                    f"With this sensor {best:.0f} mm would fill {100 * FILLS:.0f} % of the field.",
                )
            )
        self.table = Figures()
        self.table.show_rows(rows)
        self.add(self.table)
        self.set_note("focal length that would fit")


class CamerasFold(Fold):
    """A mono camera with filters against a colour one, for the same goal."""

    def __init__(self, session: Session, view: PlanView) -> None:
        super().__init__("Mono with filters, or a colour camera")
        station = view.lanes[0].station
        widths = {
            b.channel: b.width_nm for f in station.filters for b in f.bands if b.channel in _LINES
        }
        lines = {c: widths.get(c, _NARROW_NM) for c in _LINES[:3]}
        aim = aim_of(view.target, session.state.plan, {}, list(lines))
        mono, colour = mono_and_colour(station, aim, lines)
        nightly = [n.open_hours for n in view.strip if n.open_hours]
        usual = sum(nightly) / len(nightly) if nightly else 0.0
        rows = []
        for name, way in (("mono", mono), ("colour", colour)):
            nights = f"{way.whole / usual:.0f} nights" if usual else ""
            parts = ", ".join(f"{f} {clock_text(h)}" for f, h in way.hours.items())
            rows.append(
                (
                    name,
                    f"{nights}, sampled at {way.scale_arcsec:.1f}″",
                    clock_text(way.whole),
                    f"{parts}\nHours of open shutter to the same SNR in every line, on "
                    f"{view.target.name} from {view.site.name}; a colour camera samples red lines "
                    "at every second pixel.",
                )
            )
        self.table = Figures()
        self.table.show_rows(rows)
        self.add(self.table)
        ratio = colour.whole / mono.whole if mono.whole > 0 else 0.0
        self.set_note(f"colour takes {ratio:.1f} times as long" if ratio else "")


class FiltersFold(Fold):
    """Two stacks compared by what an hour has brought them."""

    def __init__(self, session: Session) -> None:
        super().__init__("Two filters, by their own stacks")
        origins = session.channels.snapshot.origins.values()
        self._stacks: dict[str, tuple[float, float]] = {}
        for p in origins:
            if p.hours and p.measure.snr:
                words = f"{p.label}: SNR {p.measure.snr:.1f}, {clock_text(p.hours)}"
                self._stacks[words] = (p.measure.snr, p.hours)
        words = "A stack of the project"
        self.boxes = [ChoiceBox(f"{n} stack", words) for n in ("first", "second")]
        self.said = label("", "head", wrap=True)
        for number, box in enumerate(self.boxes):
            box.addItems(list(self._stacks))
            box.setCurrentIndex(min(number, len(self._stacks) - 1))
            box.activated.connect(lambda _i: self.reckon())
            self.add(box)
        self.add(self.said)
        self.reckon()

    def reckon(self) -> None:
        """Compare the two that are chosen."""
        found = [self._stacks.get(box.currentText()) for box in self.boxes]
        if None in found or len(self._stacks) < 2:
            for box in self.boxes:
                box.setVisible(False)
            self.said.setText("Open two stacks of the same channel to compare their filters.")
            return
        rates = [worth_of_hour(*pair) for pair in found if pair is not None]
        better, worse = (0, 1) if rates[0] >= rates[1] else (1, 0)
        times = rates[better] / rates[worse]
        names = [box.currentText().partition(":")[0] for box in self.boxes]
        self.said.setText(
            f"An hour of {names[better]} is worth {times:.1f} hours of {names[worse]}."
            if times >= 1.05
            else "An hour of either is worth the same."
        )


class SumsDialog(QDialog):
    """One under the other, each with its answer."""

    def __init__(self, session: Session, view: PlanView, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sums on paper")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(620, 720)
        plan = session.state.plan
        glass = max((f.thickness_mm for f in plan.filters_of(view.rig)), default=2.0)
        self.spacing, self.guider = SpacingFold(glass), GuiderFold(glass)
        self.frame = FrameFold(session, view)
        self.cameras, self.filters = CamerasFold(session, view), FiltersFold(session)
        inside = QWidget()
        column = QVBoxLayout(inside)
        for fold in (self.spacing, self.guider, self.frame, self.cameras, self.filters):
            column.addWidget(fold)
        column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidget(inside)
        whole = QVBoxLayout(self)
        whole.addWidget(area)

"""The controls of each step of the chain."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QLabel, QPushButton, QRadioButton, QVBoxLayout, QWidget

from ....workspace.channels.prepared import Prepared
from ....workspace.channels.registration import suggest_reference
from ....workspace.channels.steps import BROAD, disagreement, members_of, stacks_behind
from ....workspace.project.state import AUTO, PLANE
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, button, label
from ...widgets.text import snr_text
from .leaks import LeakBars

CROPS = (
    ("common", "the part that all share"),
    ("reference", "the reference's frame"),
    ("union", "all that was seen"),
)
DEGREES = (AUTO, 1, 2, 3, 4)


class Panel(QWidget):
    """Under the row of its step."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.prepared: Prepared | None = None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(22, 0, 0, 10)
        self.column.setSpacing(4)
        self.setMaximumWidth(282)

    def show_channel(self, prepared: Prepared) -> None:
        self.prepared = prepared
        self.refresh(prepared)

    def refresh(self, prepared: Prepared) -> None:
        raise NotImplementedError

    @property
    def channel(self) -> str:
        return self.prepared.channel if self.prepared else ""


class AlignPanel(Panel):
    """The reference, the field that is shown, and a line for each stack."""

    missed = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.reference = ChoiceBox(
            "reference",
            "The stack whose grid the others take;\nthe one with most hours is suggested",
        )
        self.reference.activated.connect(lambda i: session.set_reference(self._ids[i]))
        self.crop = ChoiceBox("field", "What of the field is shown and blended")
        self.crop.addItems([words for _, words in CROPS])
        self.crop.activated.connect(lambda i: session.set_crop(CROPS[i][0]))
        self.lines = Figures()
        self.misses = button(
            "show how stars miss",
            "Arrows from each matched star to where the other stack has it,\n"
            "enlarged: they should point everywhere and nowhere",
            "choice",
        )
        self.misses.setCheckable(True)
        self.misses.clicked.connect(self._miss)
        self.whose = ChoiceBox(
            "stack whose misses are shown",
            "Each stack misses in its own way: look at one at a time",
        )
        self.whose.activated.connect(lambda _i: self.missed.emit(True))
        self.whose.hide()
        self.refused = label("", "wants", wrap=True)
        for widget in (
            self.reference,
            self.crop,
            self.lines,
            self.misses,
            self.whose,
            self.refused,
        ):
            self.column.addWidget(widget)
        self._ids: list[str] = []
        self._moved: list[str] = []

    @property
    def missing(self) -> str | None:
        """The stack whose misses are to be shown; None for none."""
        index = self.whose.currentIndex()
        return (
            self._moved[index]
            if self.misses.isChecked() and 0 <= index < len(self._moved)
            else None
        )

    def _miss(self, on: bool) -> None:
        self.whose.setVisible(bool(on) and len(self._moved) > 1)
        self.missed.emit(bool(on))

    def refresh(self, prepared: Prepared) -> None:
        state, placing = self.session.state, self.session.channels.placing
        stacks = [s for s in state.sources if not s.preliminary]
        suggested = suggest_reference(stacks)
        names = [s.label + (", suggested" if s.id == suggested else "") for s in stacks]
        if [self.reference.itemText(i) for i in range(self.reference.count())] != names:
            self.reference.clear()
            self.reference.addItems(names)
        self._ids = [s.id for s in stacks]
        if placing.reference in self._ids:
            self.reference.setCurrentIndex(self._ids.index(placing.reference))
        self.crop.setCurrentIndex([c for c, _ in CROPS].index(state.crop))
        rows = []
        for source in stacks:
            match = placing.places[source.id].match if source.id in placing.places else None
            if match is not None:
                words = placing.places[source.id].words
                rows.append(
                    (
                        source.label,
                        "mirrored" if match.mirror else "",
                        f"{match.rms_px:.2f} px",
                        f"{words}\n"
                        f"{match.warp.model}; chance would do as well once in 10^{match.score:.0f}",
                    )
                )
        behind = {s.id for s in stacks_behind(self.session.channels, state, prepared)}
        moved = [
            s
            for s in stacks
            if s.id in behind and s.id in placing.places and placing.places[s.id].match is not None
        ]
        if [s.id for s in moved] != self._moved:
            self._moved = [s.id for s in moved]
            self.whose.clear()
            self.whose.addItems([f"of {s.label}" for s in moved])
        self.whose.setVisible(self.misses.isChecked() and len(moved) > 1)
        self.crop.setVisible(bool(rows))
        self.misses.setVisible(bool(moved))
        self.lines.show_rows(rows)
        self.refused.setText("\n".join(placing.refused.values()))
        self.refused.setVisible(bool(placing.refused))


class GradientPanel(Panel):
    """The degree, and what was drawn that must not count as sky."""

    drawing = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.degree = ChoiceBox(
            "degree of the gradient",
            "The simplest surface that the sky asks for is chosen;\n"
            "a higher degree bends more and may take nebula with it",
        )
        self.degree.addItems(["degree chosen by the sky", *(f"degree {n}" for n in DEGREES[1:])])
        self.degree.activated.connect(self._choose)
        self.figures = Figures()
        self.draw = button(
            "draw what must not count",
            "Drag over nebula that is taken for sky; the gradient is found "
            "anew.\nReturn puts a disc into the middle of the view.",
            "choice",
        )
        self.draw.setCheckable(True)
        self.draw.clicked.connect(lambda on: self.drawing.emit(bool(on)))
        self.clear = button(
            "clear what was drawn", "Let everything count again that looks like sky"
        )
        self.clear.clicked.connect(lambda: session.spare(self.channel, None))
        for widget in (self.degree, self.figures, self.draw, self.clear):
            self.column.addWidget(widget)

    def _choose(self, index: int) -> None:
        self.session.set_gradient(self.channel, None if DEGREES[index] == AUTO else DEGREES[index])

    def refresh(self, prepared: Prepared) -> None:
        state = self.session.state
        wanted = state.gradient.get(prepared.channel, AUTO)
        on = wanted != PLANE
        self.degree.setVisible(on)
        self.degree.setCurrentIndex(DEGREES.index(wanted) if wanted in DEGREES else 0)
        rows = []
        for member in members_of(self.session.channels, prepared):
            note = member.notes.get("gradient")
            if note:
                used = sum(1 for t in note["tiles"] if t[2]) / max(len(note["tiles"]), 1)
                rows.append(
                    (
                        member.label,
                        f"{100 * used:.0f} % sky",
                        f"{note['before']:.1f} → {note['after']:.1f} σ",
                        "Slope of the sky before and after, peak to peak over the noise "
                        "of a pixel;\n"
                        f"degree {note['degree']}, through the {100 * used:.0f} % of tiles "
                        "that show sky",
                    )
                )
        self.figures.show_rows(rows)
        single = prepared.notes.get("kind") in ("mono", "extracted")
        self.draw.setVisible(on)
        self.clear.setVisible(bool(state.spared.get(prepared.channel)))
        self.draw.setText(
            "draw what must not count" if single else "draw what must not count (all origins)"
        )


class PoolPanel(Panel):
    """Who is in the pool with which weight and why, and what would be lost without."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.parts = Figures()
        self.column.addWidget(self.parts)
        self.boxes: dict[str, QCheckBox] = {}
        self.radios: dict[str, QRadioButton] = {}

    def refresh(self, prepared: Prepared) -> None:
        channels = self.session.channels
        pooled = channels.origins.get(f"pool@{prepared.channel}")
        rows = []
        for part in pooled.notes["parts"] if pooled else ():
            weight = "left out" if part["out"] else f"{100 * part['weight']:.1f} %"
            rows.append((part["label"], f"flux {part['flux']:.2f}", weight, weight_words(part)))
        if pooled is not None:
            best = max((p.measure.snr or 0 for p in channels.alone(prepared.channel)), default=0.0)
            rows.append(("best alone", "SNR", snr_text(best), "The best origin by itself"))
            rows.append(
                (
                    "together",
                    "SNR",
                    snr_text(pooled.measure.snr),
                    f"Pooled; its noise is {pooled.notes['gain']:.2f} times smaller than that "
                    "of the best alone",
                )
            )
        self.parts.show_rows(rows)
        self._show_boxes(pooled)
        self._show_radios(prepared)

    def _show_boxes(self, pooled: Prepared | None) -> None:
        """A box for each origin of a pool of three and more: in it or not."""
        self._drop(self.boxes)
        self.boxes = {}
        parts = pooled.notes["parts"] if pooled else []
        for part in parts if len(parts) > 2 else ():
            sign = "+" if part["out"] else "−"
            words = (
                f"{'with' if part['out'] else 'without'} it {sign}{100 * part['loss']:.1f} % SNR"
            )
            box = QCheckBox(f"{part['label'].partition(',')[0]}: {words}")
            box.setAccessibleName(f"pool with {part['label']}")
            box.setToolTip(f"{weight_words(part)}\nClear it to pool without this one.")
            box.setChecked(not part["out"])
            box.clicked.connect(lambda on, o=part["origin"]: self.session.leave_out(o, not on))
            self.boxes[part["origin"]] = box
            self.column.addWidget(box)

    def _show_radios(self, prepared: Prepared) -> None:
        """One origin alone, when the pool is off."""
        self._drop(self.radios)
        self.radios = {}
        channels = self.session.channels
        if channels.chosen.get(prepared.channel) in (
            f"pool@{prepared.channel}",
            f"net@{prepared.channel}",
        ):
            return
        for option in channels.alone(prepared.channel):
            if option.shape != channels.grid:
                continue
            radio = QRadioButton(f"use {option.label}, SNR {snr_text(option.measure.snr)}")
            radio.setAccessibleName(f"use {prepared.channel} of {option.label}")
            radio.setToolTip(f"The blend takes {prepared.channel} from {option.label}.")
            radio.setChecked(channels.chosen[prepared.channel] == option.origin)
            radio.clicked.connect(
                lambda _on, c=prepared.channel, o=option.origin: self.session.choose_origin(c, o)
            )
            self.radios[option.origin] = radio
            self.column.addWidget(radio)

    def _drop(self, widgets: dict[str, QCheckBox] | dict[str, QRadioButton]) -> None:
        for widget in widgets.values():
            self.column.removeWidget(widget)
            widget.hide()
            widget.deleteLater()


def weight_words(part: dict[str, object]) -> str:
    """Why an origin has its weight."""
    fwhm = part.get("fwhm")
    words = (
        f"Weight by (flux / noise)²: flux {part['flux']:.3f} of the reference's, told by its "
        f"{part['from']};\n"
        f"noise {part['sigma']:.3g} at that flux"
    )
    words += f"; stars {fwhm:.1f} px wide" if fwhm else ""
    return (
        f"{words}.\n"
        f"{100 * float(str(part['rejected'])):.3f} % of its pixels are left "
        "out as no other shows them."
    )


class ContinuumPanel(Panel):
    """Which broadband channel, and its share."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.broad = ChoiceBox(
            "broadband channel",
            "The channel whose share is taken off,\nso that only the line is left",
        )
        self.broad.activated.connect(lambda i: session.set_continuum(self.channel, self._names[i]))
        self.why = label(
            "Stars hold no line: their brightness in both tells the share.", "muted", wrap=True
        )
        self.column.addWidget(self.broad)
        self.column.addWidget(self.why)
        self._names: list[str] = []

    def refresh(self, prepared: Prepared) -> None:
        state, channels = self.session.state, self.session.channels
        self._names = [n for n in BROAD.get(prepared.channel, ()) if n in channels.chosen]
        self.broad.clear()
        self.broad.addItems([f"told from {n}" for n in self._names])
        now = state.continuum.get(prepared.channel)
        if now in self._names:
            self.broad.setCurrentIndex(self._names.index(now))
        self.broad.setVisible(prepared.channel in state.continuum)


class StarsPanel(Panel):
    """The split, its quality, and layers from and to files."""

    load_wanted = pyqtSignal()
    save_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.figures = Figures()
        self.all = button(
            "split all channels",
            "Split the stars off every channel; about a second for each megapixel",
        )
        self.all.clicked.connect(lambda: session.set_split(session.channels.names, True))
        self.load = button(
            "a layer made elsewhere…", "Take the stars from a file on this grid: FITS, TIFF or PNG"
        )
        self.load.clicked.connect(self.load_wanted)
        self.save = button(
            "save both layers…",
            "Write the channel without stars, and the stars alone, as FITS;\n"
            "they add up to the channel",
        )
        self.save.clicked.connect(self.save_wanted)
        for widget in (self.figures, self.all, self.load, self.save):
            self.column.addWidget(widget)

    def refresh(self, prepared: Prepared) -> None:
        state, channels = self.session.state, self.session.channels
        made = channels.starless.get(prepared.channel)
        rows = []
        if made is not None:
            note = made.notes["split"]
            rows.append(
                (
                    "filled in",
                    "of the frame",
                    f"{100 * note['masked']:.2f} %",
                    "Under bright cores, where no model leaves nothing: filled from around them",
                )
            )
            if note["residual"] is not None:
                rows.append(
                    (
                        "light left",
                        "of bright stars",
                        f"{100 * note['residual']:+.2f} %".replace("-", "−"),
                        "Median of what stays at bright stars, over their light; 0 is perfect",
                    )
                )
                rows.append(
                    (
                        "roughness",
                        "in the holes",
                        f"{note['rest']:.2f} ×",
                        "Fine scatter where stars were, over that beside them; "
                        "1 cannot be told apart",
                    )
                )
        coloured = channels.coloured.get(prepared.channel)
        if coloured is not None:
            gains = coloured.notes["balance"]
            rows.append(
                (
                    "white, R and B",
                    f"{coloured.notes['used']} stars",
                    f"{gains[0]:.2f}, {gains[2]:.2f}",
                    "Gains over green that make the middle star white; each star has one colour,\n"
                    "on the profile of the sharpest channel",
                )
            )
        self.figures.show_rows(rows)
        self.all.setVisible(any(n not in state.split for n in channels.names))
        self.save.setVisible(made is not None)


class ExtractPanel(Panel):
    """The response, what the data say of it, and what the extraction gained."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.response: QPushButton = button("generic", "")
        self.leaks = LeakBars()
        self.table = Figures()
        self.verdict: QLabel = label("", "muted", wrap=True)
        self.use = button(
            "use the measured leaks",
            "Keep a response with the leaks that the data tell, and use it",
        )
        self.use.clicked.connect(lambda: session.use_measured_leaks(self.channel))
        self.gains = Figures()
        for widget in (self.response, self.leaks, self.table, self.verdict, self.use, self.gains):
            self.column.addWidget(widget)

    def refresh(self, prepared: Prepared) -> None:
        made = [
            p
            for p in members_of(self.session.channels, prepared)
            if p.notes.get("kind") == "extracted"
        ]
        if not made:
            return
        notes = made[0].notes
        rows = []
        refused: list[str] = []
        for stack, found in notes.get("measured", {}).items():
            for name, table in notes["leaks"].get(stack, {}).items():
                value = found["values"].get(name)
                if value is not None:
                    rows.append(
                        (
                            name,
                            f"table {table:.3f}",
                            f"≤ {value:.3f}",
                            f"{stack}: the lowest ratio on which enough places agree;\n"
                            "where the other line is not quite dark it is above the true leak",
                        )
                    )
            refused += [f"{n}: {why}." for n, why in found["refused"].items()]
        self.table.show_rows(rows)
        self.verdict.setText(verdict(made[0], bool(rows)))
        self.verdict.setToolTip("\n".join(refused))
        self.verdict.setProperty("role", "wants" if disagreement(made[0]) else "muted")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)
        self.use.setVisible(disagreement(made[0]) is not None)
        gains = []
        for member in made:
            gain = float(member.notes["snr_gain"])
            gains.append(
                (
                    f"gain of {member.channel}",
                    "",
                    f"{100 * (gain - 1):+.0f} % SNR".replace("-", "−"),
                    f"SNR of {member.channel} over the plain colour plane at the same light.\n"
                    "Taking a leak out costs a little noise; a second stack wins much.",
                )
            )
            if member.notes.get("scale") is not None:
                gains.append(
                    (
                        f"scale of second {member.channel}",
                        f"r {member.notes['correlation']:.3f}",
                        f"{member.notes['scale']:.3f}",
                        "Flux of the second stack over the first, from the nebula alone",
                    )
                )
        self.gains.show_rows(gains)


def verdict(prepared: Prepared, measured: bool) -> str:
    """Whether the data agree with the table, in words."""
    apart = disagreement(prepared)
    if apart is not None:
        return (
            f"{apart[0]}: {apart[1]} is {apart[2]:.2f} times the table's. "
            "Look at both before you choose."
        )
    if measured:
        return "The data do not speak against the table: no need to change it."
    return (
        "The data do not tell the leaks: the lines lie on each other, or are too faint. "
        "The table is used."
    )

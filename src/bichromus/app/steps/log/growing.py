"""How the log grows: a folder taken in, a folder watched, an evening rehearsed; and what could not
be counted.
"""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ....core.model.channel import CHANNELS
from ....core.model.errors import InputError
from ....workspace.log.intake import Intake
from ....workspace.planning.rehearsal import FocusPauses, eventful, make_evening, shots_of
from ....workspace.project.folders import rehearsal_folder
from ....workspace.session import Session
from ...bridge import Bridge
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.plain import set_tip

PACES = (
    ("at once", 1e9),
    ("600 times faster", 600.0),
    ("60 times faster", 60.0),
    ("in real time", 1.0),
)


class GrowingFold(Fold):
    """Buttons, the state of what runs, and the last intake in figures."""

    def __init__(self, session: Session, bridge: Bridge, window: QWidget) -> None:
        super().__init__("Growing")
        self._session, self._window = session, window
        self.take = button(
            "Take in a folder…", "Read the headers of all subs in a folder and below (Ctrl+I)"
        )
        self.take.clicked.connect(self.choose_folder)
        self.watch = button("Watch a folder…", "")
        self.watch.clicked.connect(self.choose_watched)
        self.pace = ChoiceBox(
            "pace of the rehearsal", "How fast the simulated camera shoots tonight's plan"
        )
        self.pace.addItems([words for words, _ in PACES])
        self.pace.setCurrentIndex(1)
        self.course = ChoiceBox(
            "course of the rehearsal",
            "As the forecast has it, or with focus that runs away, a cloud, a camera that stops\n"
            "and a sensor that warms",
        )
        self.course.addItems(["weather as forecast", "an eventful evening"])
        self.rehearse = button("Rehearse tonight", "")
        self.rehearse.clicked.connect(self.toggle_rehearsal)
        self.add(self.take)
        self.add(self.watch)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.rehearse, 1)
        line.addWidget(self.pace)
        self.add(row)
        self.add(self.course)
        self.state = label("", "muted", wrap=True)
        self.add(self.state)
        self.unknown = ChoiceBox("unknown filter", "A filter whose name is not understood")
        self.means = ChoiceBox("what it is", "The channel that this filter passes")
        self.means.addItems(["is …", *CHANNELS, "Ha+O3", "O3+S2"])
        self.means.activated.connect(self._name)
        self._odd = QWidget()
        odd = QHBoxLayout(self._odd)
        odd.setContentsMargins(0, 4, 0, 0)
        odd.addWidget(self.unknown, 1)
        odd.addWidget(self.means)
        self.add(self._odd)
        self.figures = Figures()
        self.add(self.figures)
        self._progress = ""
        bridge.took_in.connect(self._took_in)
        bridge.rehearsing.connect(self._show_progress)
        bridge.logged.connect(self.show_state)
        bridge.state.connect(self.show_state)
        bridge.planned.connect(self.show_state)
        self.show_state()

    # --- gestures ---

    def choose_folder(self) -> None:
        """Choose a folder of subs, and take it in."""
        found = QFileDialog.getExistingDirectory(
            self._window, "Take in a folder of subs", str(Path.home())
        )
        if found:
            self._session.log.take_in(Path(found))

    def choose_watched(self) -> None:
        """Watch a folder, or stop."""
        if self._session.state.log.watched:
            self._session.evening.stop()
            self._session.log.watch("")
            return
        found = QFileDialog.getExistingDirectory(self._window, "Watch a folder", str(Path.home()))
        if found:
            self._session.log.watch(found)

    def toggle_rehearsal(self) -> None:
        """Shoot the planned night with the simulated camera, or stop it."""
        session = self._session
        if session.evening.running:
            session.evening.stop()
            self._show_progress(0, 0, "")
            return
        view = session.planning.snapshot.view
        if view is None:
            return
        try:
            blocks = [(b.filter, b.start, b.end, b.subs, b.sub_s) for b in view.tonight.blocks]
            plan = session.state.plan
            every = plan.refocus_min_of(view.rig)
            shots = shots_of(blocks, FocusPauses(every, view.rig.focus_run_min))
            stirring = self.course.currentIndex() == 1 and bool(shots)
            evening = make_evening(
                view.site,
                view.rig,
                view.target,
                plan.filters,
                shots,
                view.forecast,
                every,
                incidents=eventful(shots) if stirring else (),
                cooling_c_h=plan.cooling_c_h,
            )
        except InputError as error:
            session.context.report([error])
            return
        folder = rehearsal_folder(session.document.folder)
        if session.evening.start(evening, folder, PACES[self.pace.currentIndex()][1]):
            session.log.watch(str(folder))
        self.show_state()

    def _name(self, index: int) -> None:
        if index > 0:
            self._session.log.name_filter(self.unknown.currentText(), self.means.currentText())
            self.means.setCurrentIndex(0)

    # --- what is shown ---

    def show_state(self) -> None:
        """Show what is watched, and the evening that is rehearsed."""
        session, book = self._session, self._session.log
        watched = session.state.log.watched
        self.watch.setText("Stop watching" if watched else "Watch a folder…")
        set_tip(
            self.watch,
            f"Subs that arrive in {watched} are no longer taken in"
            if watched
            else "Subs that arrive in a folder are taken in by themselves (Ctrl+Shift+I)",
        )
        self.rehearse.setText(
            "Stop the rehearsal" if session.evening.running else "Rehearse tonight"
        )
        can = session.planning.snapshot.view is not None and (
            bool(session.planning.snapshot.view.tonight.blocks) or session.evening.running
        )
        self.rehearse.setEnabled(can)
        set_tip(
            self.rehearse,
            "A simulated camera shoots tonight's plan into a folder that is watched"
            if can
            else "Nothing is planned for this night",
        )
        words = []
        if watched:
            name = Path(watched).name
            words.append(
                f"{name} is away; watching for its return."
                if book.watching.lost
                else f"Watching {name}: {book.watching.arrived} new."
            )
        if self._progress:
            words.append(self._progress)
        self.state.setText("\n".join(words))
        self.state.setVisible(bool(words))
        odd = [n for n in book.snapshot.view.unknown if n not in ("none", "RGB")]
        self._odd.setVisible(bool(odd))
        if [self.unknown.itemText(i) for i in range(self.unknown.count())] != odd:
            self.unknown.clear()
            self.unknown.addItems(odd)
        self.set_note("rehearsing" if session.evening.running else "watching" if watched else "")

    def _show_progress(self, done: int, whole: int, text: str) -> None:
        self._progress = (
            f"Simulated camera: {text}, {done} of {whole}." if whole and text != "done" else ""
        )
        self.show_state()

    def _took_in(self, found: Intake, arrived: bool) -> None:
        rows = [
            (
                "just arrived" if arrived else "last folder",
                "",
                f"{found.files:,} files",
                "Files that could be subs, in the folder and below",
            ),
            ("new subs", "", f"{found.added:,}", "Counted now"),
            (
                "known already",
                "",
                f"{found.duplicates:,}",
                "Counted before, wherever they lie and whatever their name",
            ),
            (
                "no lights",
                "",
                f"{found.not_lights:,}",
                "Listed, not counted. In the whole log: "
                + (
                    ", ".join(f"{n} {w}" for w, n in self._session.log.snapshot.others.items())
                    or "none"
                ),
            ),
            (
                "broken",
                "",
                f"{len(found.broken):,}",
                "\n".join(f"{Path(f).name}: {why}" for f, why in found.broken[:12]) or "None",
            ),
        ]
        self.figures.show_rows(rows[:2] + [r for r in rows[2:] if r[2] != "0"])
        if found.broken and not arrived:
            errors = [
                InputError(
                    "This sub could not be counted",
                    why=why,
                    do="Copy it again from where it came",
                    file=f,
                )
                for f, why in found.broken[:8]
            ]
            self._session.context.report(errors)

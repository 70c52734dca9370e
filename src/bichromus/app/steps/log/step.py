"""The Log step: what was shot, night by night, what it is worth, and whether it is enough."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QMessageBox,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....workspace.log.controller import LogController
from ....workspace.log.summary import write_summary
from ....workspace.log.view import NightRow, Pick, Run
from ...command import Command
from ...shell.channel_list import Card
from ...shell.route import StepState
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.text import clock_text, snr_text
from ..step import Step, StepContext
from .growing import GrowingFold
from .growth import GrowthPlot
from .matrix import Matrix
from .rundialog import RunDialog, values_of

_ALL = {
    "station": "all stations",
    "rig": "all rigs",
    "season": "all seasons",
    "object_name": "all targets",
}


class LogStep(Step):
    """Stage: the matrix, and the growth of SNR below. Inspector: the night, contributions, growing,
    summary.
    """

    id = "log"
    title = "Log"
    tip = "What was shot, night by night, and whether it is enough."
    place = 20

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.stage: QStackedWidget = self._make_stage()
        self.first = self.matrix
        self._night_fold()
        self.growing = GrowingFold(self.session, context.bridge, context.window)
        self.inspector.add(self.growing)
        self._people_fold()
        self._summary_fold()
        self.empty_take.clicked.connect(self.growing.choose_folder)
        context.bridge.logged.connect(self._show)
        context.bridge.planned.connect(self._show_growth)
        context.bridge.channels.connect(self._show_growth)
        self._show()

    @property
    def book(self) -> LogController:
        """The project's log."""
        return self.session.log

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.planning.snapshot.view is not None

        here, grow = self.here, self.growing
        return [
            Command(
                "take-in",
                "Take in a folder of subs",
                "Ctrl+I",
                here(grow.choose_folder),
                "log headers intake",
            ),
            Command(
                "watch",
                "Watch a folder, or stop",
                "Ctrl+Shift+I",
                here(grow.choose_watched),
                "log subs arrive",
            ),
            Command(
                "rehearse",
                "Rehearse tonight, or stop",
                "",
                here(grow.toggle_rehearsal),
                "log simulated camera evening",
                ready,
            ),
            Command("type-run", "Type a run", "Ctrl+L", here(self.open_run, None), "log night"),
            Command("paste-runs", "Paste a table of runs", "Ctrl+V", here(self.paste), "log table"),
            Command(
                "copy-summary",
                "Copy the summary of the log",
                "",
                here(self.copy_summary, "text"),
                "log hours text",
            ),
            Command(
                "contribution",
                "Take in a contribution",
                "",
                here(self.choose_contribution),
                "log pool people",
            ),
            Command(
                "contribute",
                "Export a contribution",
                "",
                here(self.choose_export),
                "log pool people",
            ),
        ]

    # --- building ---

    def _make_stage(self) -> QStackedWidget:
        self.matrix, self.plot = Matrix(), GrowthPlot()
        self.matrix.chosen.connect(self._show_night)
        self.matrix.opened.connect(self.open_run)
        self.matrix.removed.connect(self._remove)
        stage = QStackedWidget()
        stage.addWidget(self._empty_page())
        page = QWidget()
        stage.addWidget(page)
        column = QVBoxLayout(page)
        column.setContentsMargins(18, 10, 18, 6)
        column.setSpacing(4)
        self.total = label("", "head")
        top = QHBoxLayout()
        top.addWidget(self.total)
        top.addStretch(1)
        self.boxes: dict[str, ChoiceBox] = {}
        for name, words in _ALL.items():
            box = ChoiceBox(words.removeprefix("all "), f"Show {words}, or one of them")
            box.activated.connect(lambda _i, n=name: self._filter(n))
            self.boxes[name] = box
            top.addWidget(box)
        type_one = button("Type a run…", "A run that left no files: night, channel, count (Ctrl+L)")
        type_one.clicked.connect(lambda: self.open_run(None))
        top.addWidget(type_one)
        column.addLayout(top)
        column.addWidget(self.matrix, 3)
        column.addSpacing(8)
        head = QHBoxLayout()
        head.addWidget(label("is it enough?", "head"))
        legend = label(
            "SNR as a share of the goal's, along the root of the hours.  Dot: kept, ring: goal, "
            "cross: measured",
            "muted",
        )
        legend.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        legend.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        head.addWidget(legend, 1)
        column.addLayout(head)
        column.addWidget(self.plot, 2)
        return stage

    def _empty_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        words = (
            label("Nothing is logged yet.", "title"),
            label(
                "Take in a folder of subs: every sub counts once, whatever it is called and "
                "wherever it lies.\n"
                "Or paste a table of runs (Ctrl+V), or type one (Ctrl+L).",
                "muted",
            ),
        )
        self.empty_take = button(
            "Take in a folder…", "Read the headers of all subs in it (Ctrl+I)", "primary"
        )
        column.addStretch(1)
        for part in words:
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(part)
        column.addSpacing(10)
        column.addWidget(self.empty_take, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)
        return page

    def _night_fold(self) -> None:
        self.night_fold = self.inspector.add(Fold("Night"))
        self.night = Figures()
        self.night_fold.add(self.night)

    def _people_fold(self) -> None:
        fold = self.people_fold = self.inspector.add(Fold("Contributions"))
        self.people = Figures()
        fold.add(self.people)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        for words, tip, work in (
            (
                "Take one in…",
                "A folder with another person's runs, subs or stacks",
                self.choose_contribution,
            ),
            (
                "Export…",
                "One station's runs and stacks, for somebody else to take in",
                self.choose_export,
            ),
        ):
            made = button(words, tip)
            made.clicked.connect(work)
            line.addWidget(made)
        fold.add(row)

    def _summary_fold(self) -> None:
        fold = self.summary_fold = self.inspector.add(Fold("Summary to publish"))
        self.summary = label("", "muted", wrap=True)
        self.summary.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        fold.add(self.summary)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        line.setSpacing(4)
        for words, form in (
            ("Copy", "text"),
            ("Markdown", "markdown"),
            ("CSV", "csv"),
            ("JSON", "json"),
        ):
            made = button(words, f"Copy the summary as {form}", "quiet")
            made.clicked.connect(lambda _on, f=form: self.copy_summary(f))
            line.addWidget(made)
        line.addStretch(1)
        save = button("Save…", "The summary, or the whole log, as a file", "quiet")
        save.clicked.connect(self.choose_file)
        line.addWidget(save)
        fold.add(row)

    # --- gestures ---

    def open_run(self, run: Run | None) -> None:
        """Type a run, or look at one."""
        row = next(
            (r for r in self.book.table.runs() if run is not None and r["id"] == run.key), None
        )
        if run is not None:
            values = values_of(run, row)
        else:
            night = self.matrix.row
            plan = self.session.state.plan
            values = {
                "night": night.night.isoformat() if night else plan.date,
                "contributor": night.contributor if night else plan.site,
                "seconds": "300",
            }
        RunDialog(self.book, self.context.window, values, run).show()

    def _remove(self, run: Run) -> None:
        if run.typed:
            self.book.drop_run(run.key)
        else:
            self.session.context.message(
                "These subs were read from files: reject them in Subs, or undo the intake."
            )

    def paste(self) -> None:
        """Take runs over from the clipboard."""
        clipboard = QGuiApplication.clipboard()
        count = self.book.paste(clipboard.text() if clipboard is not None else "")
        if count:
            self.session.context.message(
                f"{count} {'run' if count == 1 else 'runs'} pasted. Ctrl+Z takes them back."
            )

    def choose_contribution(self) -> None:
        found = QFileDialog.getExistingDirectory(
            self.context.window, "Take in a contribution", str(Path.home())
        )
        if found:
            self.book.take_contribution(Path(found), self.session.channels.open_files)

    def choose_export(self) -> None:
        """Export one station's part."""
        stations = sorted(
            {s.contributor for s in self.book.snapshot.subs}
            | {s.station for s in self.session.state.sources if s.station}
        )
        if not stations:
            self.session.context.message("There is nothing to export yet.")
            return
        station, fine = QInputDialog.getItem(
            self.context.window, "Export a contribution", "Whose part?", stations, 0, False
        )
        folder = (
            QFileDialog.getExistingDirectory(
                self.context.window, "An empty folder for it", str(Path.home())
            )
            if fine
            else ""
        )
        if folder:
            self.export_to(Path(folder), station)

    def export_to(self, folder: Path, station: str) -> None:
        """Write a station's part into a folder; its kept subs only when asked for."""
        kept = [
            s for s in self.book.snapshot.subs if s.contributor == station and s.kept and s.file
        ]
        words = (
            f"Copy the {len(kept)} kept subs of {station}, too? Without them its hours and "
            "stacks are exported."
        )
        with_subs = (
            bool(kept)
            and QMessageBox.question(self.context.window, "Export a contribution", words)
            == QMessageBox.StandardButton.Yes
        )
        self.book.export_contribution(folder, station, with_subs)

    def copy_summary(self, form: str) -> None:
        """The summary on the clipboard."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(write_summary(self.book.summary(), form))
            self.session.context.message(f"The summary is on the clipboard, as {form}.")

    def choose_file(self) -> None:
        kinds = (
            "Summary (*.md *.txt *.csv *.json);;The whole log, a row for each sub "
            "(*.log.csv *.log.json)"
        )
        path, kind = QFileDialog.getSaveFileName(
            self.context.window, "Save the summary", str(Path.home() / "summary.md"), kinds
        )
        if path:
            self.save(Path(path), whole=kind.startswith("The whole"))

    def save(self, path: Path, whole: bool) -> None:
        """Write the summary, or the whole log."""
        if whole:
            self.book.export(path)
        else:
            self.book.save_summary(path)

    def _filter(self, name: str) -> None:
        box = self.boxes[name]
        value = "" if box.currentIndex() == 0 else box.currentText()
        self.book.pick(replace(self.book.snapshot.pick, **{name: value}))

    # --- what is shown ---

    def enter(self) -> None:
        super().enter()
        self._show_growth()

    def select(self, channel: str) -> None:
        self.selected = channel
        self._show_growth()

    selected: str | None = None

    def _show(self) -> None:
        view = self.book.snapshot.view
        self.stage.setCurrentIndex(1 if view.rows or self.book.snapshot.pick != Pick() else 0)
        count = f"{view.nights} {'night' if view.nights == 1 else 'nights'}"
        self.total.setText(f"{count}, {clock_text(sum(view.hours.values()))} kept")
        values = {
            "station": view.stations,
            "rig": view.rigs,
            "season": tuple(view.seasons),
            "object_name": view.objects,
        }
        for name, box in self.boxes.items():
            names = [_ALL[name], *values[name]]
            if [box.itemText(i) for i in range(box.count())] != names:
                box.clear()
                box.addItems(names)
            chosen = getattr(self.book.snapshot.pick, name)
            box.setCurrentIndex(names.index(chosen) if chosen in names else 0)
            box.setVisible(len(values[name]) > 1)
            box.setMaximumWidth(130)
        self.matrix.show_view(view)
        self._show_night(self.matrix.row)
        self._show_people()
        text = write_summary(self.book.summary(), "text")
        self.summary.setText(text.strip().partition("\n")[2] or text.strip())
        self.summary_fold.setVisible(bool(view.rows))
        self.summary_fold.set_note(f"{len(view.channels)} channels")
        self._show_growth()

    def _show_people(self) -> None:
        people = self.book.snapshot.view.by_station()
        nights = {
            who: len({r.night for r in self.book.snapshot.view.rows if r.contributor == who})
            for who in people
        }
        self.people.show_rows(
            [
                (
                    who,
                    f"{nights[who]} {'night' if nights[who] == 1 else 'nights'}",
                    clock_text(sum(hours.values())),
                    "\n".join(f"{c}: {clock_text(h)}" for c, h in hours.items()),
                )
                for who, hours in people.items()
            ]
        )
        self.people_fold.set_note(
            f"{len(people)} {'station' if len(people) == 1 else 'stations'}" if people else ""
        )

    def _show_night(self, row: NightRow | None) -> None:
        self.night_fold.setVisible(row is not None)
        if row is None:
            return
        self.night_fold.set_title(f"{row.night:%-d %B %Y}, {row.contributor}")
        self.night.show_rows(_night_rows(row))

    def _show_growth(self) -> None:
        if self.active or not self.plot.growths:
            self.plot.show_growths(self.session.growths(), self.selected)

    def names(self) -> set[str]:
        return set(self.book.snapshot.hours) | {
            g.channel for g in self.session.growths() if g.goal_h
        }

    def card(self, channel: str, key: str) -> Card | None:
        growth = next((g for g in self.session.growths() if g.channel == channel), None)
        if growth is None or "+" in channel:
            view, hours = self.book.snapshot.view, self.book.snapshot.hours.get(channel, 0.0)
            kept, nights = (
                view.subs_kept.get(channel, 0),
                sum(bool(r.hours(channel)) for r in view.rows),
            )
            return Card(
                channel,
                clock_text(hours),
                f"{kept:,}",
                None,
                "nights",
                f"{nights}",
                key,
                f"{clock_text(hours)} kept in {kept:,} subs.",
                first="subs",
            )
        goal = f" / {_goal_text(growth.goal_h)}" if growth.goal_h else ""
        wanted = clock_text(growth.hours) + goal
        more = f"{growth.next_hour:+.1f}" if growth.next_hour is not None else "–"
        reached = growth.goal_h is not None and growth.missing_h <= 0.02
        tip = (
            "The goal is reached."
            if reached
            else f"{clock_text(growth.missing_h)} missing."
            if growth.goal_h
            else "No goal is set."
        )
        return Card(
            channel,
            wanted,
            snr_text(growth.now),
            growth.share,
            "goal" if reached else "next hour",
            "reached" if reached else more,
            key,
            tip,
        )

    def figure(self, channel: str) -> tuple[str, str]:
        return "hours", clock_text(self.book.snapshot.hours.get(channel, 0.0))

    def status(self) -> tuple[StepState, int]:
        view = self.book.snapshot.view
        odd = len([n for n in view.unknown if n not in ("none", "RGB")])
        return ("full" if view.rows else "empty"), odd


def _goal_text(hours: float) -> str:
    return f"{hours:.0f}h" if hours >= 1.95 else f"{60 * hours:.0f}m"


def _night_rows(row: NightRow) -> list[tuple[str, str, str, str]]:
    """The figures of a night."""
    rows: list[tuple[str, str, str, str]] = []
    if row.sky is not None:
        up = f"{row.sky.moon_altitude:.0f}° high" if row.sky.moon_altitude > 0 else "down"
        rows += [
            (
                "Moon",
                up,
                f"{100 * row.sky.lit:.0f} %",
                f"{row.sky.moon_distance:.0f}° from the target, on average",
            ),
            (
                "sky there",
                "computed",
                f"{row.sky.sky_mag:.1f} mag/″²",
                "From the site's dark sky and the Moon, without twilight",
            ),
            ("target", "mean height", f"{row.sky.altitude:.0f}°", "While subs were shot"),
        ]
    if row.fwhm_arcsec is not None:
        rows.append(
            ("star size", "", f"{row.fwhm_arcsec:.1f}″", "Median of the kept subs that were graded")
        )
    span = row.span_hours
    rows.append(
        (
            "shutter open",
            f"of {clock_text(span)}" if span else "",
            clock_text(row.open_hours),
            "Sum of all subs, between the first and the last of them",
        )
    )
    for cause, hours in sorted(row.lost_to().items(), key=lambda i: -i[1]):
        rows.append(("rejected", cause, clock_text(hours), "Time of subs that were thrown out"))
    if span and span > row.open_hours + 0.01:
        rows.append(
            (
                "between subs",
                "shutter closed",
                clock_text(span - row.open_hours),
                "Focus, flip, dithers, downloads, other targets",
            )
        )
    return rows

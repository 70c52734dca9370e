"""The Log step: what was shot, night by night, what it is worth, and whether it is enough."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtGui import QGuiApplication

from ....workspace.log.controller import LogController
from ....workspace.log.runs import NightRow, Run
from ....workspace.log.view import Pick
from ...command import Command
from ...shell.channel_list import Card
from ...shell.route import StepState
from ...widgets.fold import Figures, Fold
from ...widgets.text import clock_text
from ..step import Step, StepContext
from .calibration import CalibrationFold
from .growing import GrowingFold
from .people import PeopleFold, SummaryFold
from .rundialog import RunDialog, values_of
from .stage import LogStage
from .words import growth_card, growth_legend, logged_card, night_rows


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
        session, window = self.session, context.window
        self.selected: str | None = None
        self.growing = GrowingFold(session, context.bridge, window)
        self.stage: LogStage = LogStage(self.growing.choose_folder, lambda: self.open_run(None))
        self.matrix, self.plot = self.stage.matrix, self.stage.plot
        self.matrix.chosen.connect(self._show_night)
        self.matrix.opened.connect(self.open_run)
        self.matrix.removed.connect(self._remove)
        self.stage.filtered.connect(self._filter)
        self.first = self.matrix
        self.night_fold, self.night = Fold("Night"), Figures()
        self.night_fold.add(self.night)
        self.people, self.summary = PeopleFold(session, window), SummaryFold(session, window)
        self.calibration = CalibrationFold()
        context.bridge.calibrated.connect(self.calibration.show_found)
        for fold in (
            self.night_fold,
            self.calibration,
            self.growing,
            self.people,
            self.summary,
        ):
            self.inspector.add(fold)
        context.bridge.logged.connect(self._show)
        context.bridge.planned.connect(self._show_growth)
        context.bridge.channels.connect(self._show_growth)
        context.bridge.handed_over.connect(self._handed_over)
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
                here(self.summary.copy_summary, "text"),
                "log hours text",
            ),
            Command(
                "contribution",
                "Take in a contribution",
                "",
                here(self.people.choose_contribution),
                "log pool people",
            ),
            Command(
                "contribute",
                "Export a contribution",
                "",
                here(self.people.choose_export),
                "log pool people",
            ),
        ]

    # --- gestures ---

    def _handed_over(self, files: list[Path]) -> None:
        many = f"{len(files)} files in {files[0].parent.name}"
        self.session.context.message(f"The contribution is written: {many}.")

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

    def _filter(self, name: str) -> None:
        box = self.stage.boxes[name]
        value = "" if box.currentIndex() == 0 else box.currentText()
        self.book.pick(replace(self.book.snapshot.pick, **{name: value}))

    # --- what is shown ---

    def enter(self) -> None:
        super().enter()
        self._show_growth()

    def select(self, channel: str) -> None:
        self.selected = channel
        self._show_growth()

    def _show(self) -> None:
        view = self.book.snapshot.view
        self.stage.setCurrentIndex(1 if view.rows or self.book.snapshot.pick != Pick() else 0)
        count = f"{view.nights} {'night' if view.nights == 1 else 'nights'}"
        self.stage.total.setText(f"{count}, {clock_text(sum(view.hours.values()))} kept")
        values = {
            "station": view.stations,
            "rig": view.rigs,
            "season": tuple(view.seasons),
            "object_name": view.objects,
        }
        self.stage.show_filters(values, self.book.snapshot.pick)
        self.matrix.show_view(view)
        self._show_night(self.matrix.row)
        self.people.show_people()
        self.summary.show_summary()
        self._show_growth()

    def _show_night(self, row: NightRow | None) -> None:
        self.night_fold.setVisible(row is not None)
        self.calibration.show_night(row.night if row is not None else None)
        if row is None:
            return
        self.night_fold.set_title(f"{row.night:%-d %B %Y}, {row.contributor}")
        self.night.show_rows(night_rows(row))

    def _show_growth(self) -> None:
        if self.active or not self.plot.growths:
            growths = self.session.growths()
            self.plot.show_growths(growths, self.selected)
            self.stage.legend.setText(growth_legend(growths))

    def names(self) -> set[str]:
        return set(self.book.snapshot.hours) | {
            g.channel for g in self.session.growths() if g.goal_h
        }

    def card(self, channel: str, key: str) -> Card | None:
        growth = next((g for g in self.session.growths() if g.channel == channel), None)
        if growth is None or "+" in channel:
            return logged_card(self.book.snapshot, channel, key)
        return growth_card(growth, key)

    def figure(self, channel: str) -> tuple[str, str]:
        return "hours", clock_text(self.book.snapshot.hours.get(channel, 0.0))

    def status(self) -> tuple[StepState, int]:
        view = self.book.snapshot.view
        odd = len([n for n in view.unknown if n not in ("none", "RGB")])
        return ("full" if view.rows else "empty"), odd

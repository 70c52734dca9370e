"""The Plan step: is tonight usable, what first, until when, with which subs, and what is still
missing.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QFileDialog, QWidget

from ....core.model.errors import BichromusError
from ....core.plan.season import SeasonNight
from ....core.plan.tonight import MISSING_H
from ....workspace.planning.files import checklist, write_plan
from ....workspace.planning.month import ListRequest, Shootable
from ....workspace.planning.view import PlanView
from ...command import Command
from ...shell.light import toggle_red
from ...shell.route import StepState
from ...widgets.text import clock_text
from ..step import Step, StepContext
from .folds import HoursFold, OrderFold, SubsFold, WhereFold
from .light import LightDialog
from .month import MonthDialog
from .optics import OpticsFold
from .paper import print_pdf
from .stage import PlanStage
from .sums import SumsDialog
from .things import ThingsDialog
from .watch_page import NightWatchPage
from .year import YearDialog


class PlanStep(Step):
    """Everything is computed from the project's things; choosing one is a command like any
    other.
    """

    id = "plan"
    title = "Plan"
    tip = "What to shoot tonight, when, how long, and how it fits."
    place = 10

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        session = self.session
        self.selected: str | None = None
        self.stage: PlanStage = PlanStage(
            session, context.settings, self.show_year, self.show_month, self.watch_night
        )
        self.first = self.stage.strip
        self.stage.strip.chosen.connect(self._choose_night)
        self.stage.framing.turned.connect(
            lambda a: session.planning.set_plan("turn the camera", camera_angle=a)
        )
        self.where = WhereFold(session, self.edit_things)
        self.subs, self.hours = SubsFold(session, self.show_light), HoursFold(session)
        self.order = OrderFold(session, self.choose_file)
        self.optics = OpticsFold(session, self.show_sums)
        for fold in (self.where, self.subs, self.hours, self.order, self.optics):
            self.inspector.add(fold)
        context.bridge.planned.connect(self._show)
        context.bridge.outlook.connect(self._show_outlook)
        context.bridge.year.connect(self._show_year)
        context.bridge.month.connect(self._show_month)
        context.bridge.state.connect(self._show_choices)
        self.session.library.changed.connect(self._show_choices)
        self._show()

    # --- gestures ---

    def _choose_night(self, date: str) -> None:
        self.session.planning.set_plan("plan another night", date=date)

    def edit_things(self) -> None:
        """Open the sheet of things known once."""
        dialog = ThingsDialog(self.session, self.context.window)
        dialog.show()

    def show_year(self) -> None:
        """Ask for the year; it opens when it is computed."""
        self.session.planning.request_year()

    def _show_year(self, nights: list[SeasonNight]) -> None:
        view = self.session.planning.snapshot.view
        if view is not None:
            dialog = YearDialog(nights, view.target.name, view.site.name, self.context.window)
            dialog.bars.chosen.connect(self._choose_night)
            dialog.show()

    def watch_night(self) -> None:
        """The page for the telescope."""
        toggle = partial(toggle_red, self.context.settings)
        NightWatchPage(self.session, toggle, self.context.window).show()

    def _open(self, make: Callable[[PlanView], QWidget]) -> None:
        """A sheet about the plan, where there is one."""
        view = self.session.planning.snapshot.view
        if view is not None:
            make(view).show()

    def show_sums(self) -> None:
        """Sums that are done on paper."""
        self._open(lambda view: SumsDialog(self.session, view, self.context.window))

    def show_light(self) -> None:
        """What the light of an hour is made of."""
        self._open(lambda view: LightDialog(view, self.context.window))

    def show_month(self) -> None:
        """What to shoot this month."""
        ask, take = self.session.list_targets, self.take_target
        self._open(lambda view: MonthDialog(ask, take, view.site.name, self.context.window))

    def take_target(self, found: Shootable) -> bool:
        """One of the list as the plan's target."""
        library = self.session.library
        if not found.mine:
            added = library.add("targets", found.as_target(), "add a target")
            return added is not None and library.use("targets", added.name)
        return library.use("targets", found.name)

    def _show_month(self, request: ListRequest, found: list[Shootable]) -> None:
        for dialog in self.context.window.findChildren(MonthDialog):
            dialog.show_found(request, found)

    def choose_file(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self.context.window,
            "Save the plan",
            str(Path.home() / "tonight.md"),
            "Checklist (*.md);;To print (*.pdf);;Table (*.csv);;JSON (*.json);;Calendar (*.ics)",
        )
        if path:
            self.save_plan(Path(path))

    def save_plan(self, path: Path) -> None:
        """Write tonight's plan by the ending of the name."""
        view = self.session.planning.snapshot.view
        if view is None:
            return
        try:
            if path.suffix.lower() == ".pdf":
                print_pdf(checklist(view), path)
            else:
                write_plan(view, path, overwrite=True)
        except BichromusError as error:
            self.session.context.report([error])

    def checklist(self) -> str:
        """Tonight as a list to print."""
        return (
            checklist(self.session.planning.snapshot.view)
            if self.session.planning.snapshot.view
            else ""
        )

    def select(self, channel: str) -> None:
        self.selected = channel
        self._request_outlook()

    def enter(self) -> None:
        super().enter()
        self._show()

    # --- what is shown ---

    def _show_choices(self) -> None:
        plan = self.session.state.plan
        for fold in (self.where, self.subs, self.hours, self.order):
            fold.show_choices(plan)
        if self.stage.currentIndex() == 0:
            self.stage.guide.show_state(self.session.planning.snapshot.error)

    def _show(self) -> None:
        self._show_choices()
        now, plan = self.session.planning.snapshot, self.session.state.plan
        self.stage.show_plan(now.view, now.error, plan.camera_angle, plan.overlap)
        planned = self.stage.currentIndex() == 1
        self.where.setVisible(planned or self.stage.guide.whole)
        for fold in (self.subs, self.hours, self.order, self.optics):
            fold.setVisible(planned)
            if now.view is not None and planned:
                fold.show_view(now.view)
        self._request_outlook()

    def _request_outlook(self) -> None:
        view = self.session.planning.snapshot.view
        if view is None or not self.active:
            return
        names = [c.channel for c in view.channels]
        lacking = [c.channel for c in view.channels if c.missing_h > MISSING_H]
        channel = self.selected if self.selected in names else (lacking or names or [""])[0]
        self.session.planning.request_outlook(channel)

    def _show_outlook(self, channel: str, pictures: tuple[np.ndarray, np.ndarray]) -> None:
        view = self.session.planning.snapshot.view
        plan = next((c for c in view.channels if c.channel == channel), None) if view else None
        if plan is None:
            return
        self.stage.heads["try"][0].setText(f"rehearsal of {channel}")
        self.stage.heads["try"][1].setText("simulated")
        hours = clock_text(max(plan.wanted_h, plan.had_h))
        self.stage.rehearsal.show_pictures(
            pictures,
            (
                f"one sub, {plan.sub.sub_s:.0f} s: SNR {plan.sub_snr:.1f} a pixel",
                f"after {hours}: SNR {plan.stack_snr:.0f}",
            ),
        )

    def names(self) -> set[str]:
        return (
            {c.channel for c in self.session.planning.snapshot.view.channels}
            if self.session.planning.snapshot.view is not None
            else set()
        )

    def held_hours(self, channel: str) -> float | None:
        return next((g.hours for g in self.session.growths() if g.channel == channel), None)

    def figure(self, channel: str) -> tuple[str, str]:
        view = self.session.planning.snapshot.view
        if view is None:
            return "tonight", "–"
        hours = view.tonight.hours.get(channel, 0.0)
        return "tonight", clock_text(hours) if hours else "–"

    def status(self) -> tuple[StepState, int]:
        view = self.session.planning.snapshot.view
        if view is None:
            return "empty", 0
        return ("full" if all(c.missing_h <= MISSING_H for c in view.channels) else "half"), 0

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.planning.snapshot.view is not None

        words = "plan horizon import export"
        saving = "plan checklist calendar export"
        return [
            Command(
                "things", "Sites, rigs, filters and targets", "Ctrl+T", self.edit_things, words
            ),
            Command("year", "A year at a glance", "Y", self.show_year, "plan season months", ready),
            Command(
                "watch-night",
                "Night watch: what is shot, what comes next",
                "Shift+W",
                self.watch_night,
                "telescope red refocus tonight",
                ready,
            ),
            Command(
                "sums",
                "Sums on paper: spacing, field, cameras, filters",
                "Shift+U",
                self.show_sums,
                "back focus reducer guider mono colour compare",
                ready,
            ),
            Command(
                "light", "What the light is made of", "Shift+I", self.show_light, "sky rate", ready
            ),
            Command(
                "month",
                "What to shoot this month",
                "Shift+T",
                self.show_month,
                "plan list targets",
                ready,
            ),
            Command("save-plan", "Save tonight's plan", "Ctrl+P", self.choose_file, saving, ready),
        ]

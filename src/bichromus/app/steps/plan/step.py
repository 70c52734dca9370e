"""The Plan step: is tonight usable, what first, until when, with which subs, and what is still
missing.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....core.model.channel import channel_name
from ....core.model.errors import BichromusError, InputError
from ....core.plan.season import SeasonNight
from ....workspace.planning.files import checklist, write_plan
from ....workspace.planning.view import PlanView, nights_needed
from ...command import Command
from ...shell.route import StepState
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.slider import ValueSlider
from ...widgets.text import clock_text
from ..step import Step, StepContext
from .band import NightBand
from .framing import Framing
from .optics import OpticsPicture
from .paper import print_pdf
from .rehearsal import Rehearsal
from .strip import NightStrip
from .things import ThingsDialog
from .year import YearDialog

_REASONS = {
    "read_noise": "read noise",
    "max_sub": "your cap",
    "saturation": "bright stars",
    "given": "given",
}
_CARE = "Rest before driving home. Local rules and licensed practice come first."
_DEW = "Dew is likely: keep mains joints off wet grass and use protected outlets. "
_SUN = "The Sun stays up: never point optics near it without a proper front filter. "


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
        self.selected: str | None = None
        self.stage: QStackedWidget = self._make_stage()
        self.first = self.strip
        self._where_fold()
        self._tonight_fold()
        self._hours_fold()
        self._order_fold()
        self._optics_fold()
        context.bridge.planned.connect(self._show)
        context.bridge.outlook.connect(self._show_outlook)
        context.bridge.year.connect(self._year)
        context.bridge.state.connect(self._show_choices)
        self._show()

    # --- building ---

    def _make_stage(self) -> QStackedWidget:
        self.strip, self.band = NightStrip(), NightBand()
        self.framing, self.rehearsal = Framing(), Rehearsal()
        self.strip.chosen.connect(
            lambda d: self.session.planning.set_plan("plan another night", date=d)
        )
        self.framing.turned.connect(
            lambda a: self.session.planning.set_plan("turn the camera", camera_angle=a)
        )
        stage = QStackedWidget()
        page = QWidget()
        stage.addWidget(self._empty_page())
        stage.addWidget(page)
        column = QVBoxLayout(page)
        column.setContentsMargins(18, 12, 18, 10)
        column.setSpacing(6)
        self.heads = {
            name: (label("", "head"), label("", "muted"))
            for name in ("strip", "night", "frame", "try")
        }

        def head(name: str) -> QHBoxLayout:
            row = QHBoxLayout()
            left, right = self.heads[name]
            row.addWidget(left)
            row.addStretch(1)
            row.addWidget(right)
            return row

        column.addLayout(head("strip"))
        column.addWidget(self.strip)
        column.addSpacing(6)
        column.addLayout(head("night"))
        column.addWidget(self.band, 3)
        column.addSpacing(6)
        lower = QHBoxLayout()
        lower.setSpacing(16)
        for name, widget in (("frame", self.framing), ("try", self.rehearsal)):
            half = QVBoxLayout()
            half.addLayout(head(name))
            half.addWidget(widget, 1)
            lower.addLayout(half, 1)
        column.addLayout(lower, 2)
        self.heads["strip"][0].setText("next fourteen nights")
        self.year_button = button("year", "All nights of a year at a glance (Y)", "link")
        self.year_button.clicked.connect(self.show_year)
        first = column.itemAt(0)
        row = first.layout() if first is not None else None
        assert isinstance(row, QHBoxLayout)
        row.insertWidget(1, self.year_button)
        self.heads["strip"][1].setText("usable hours: dark (bright), moonlit (grey)")
        return stage

    def _empty_page(self) -> QWidget:
        """What is missing, and the way to it."""
        page = QWidget()
        column = QVBoxLayout(page)
        self.errors = label("", "title", wrap=True)
        words = label(
            "A plan needs a site, a rig and a target. They are typed once and kept.", "muted"
        )
        for part in (self.errors, words):
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
        add = button(
            "Add a site, a rig, a target…", "Sites, rigs, filters, targets (Ctrl+T)", "primary"
        )
        add.clicked.connect(self.edit_things)
        column.addStretch(1)
        column.addWidget(self.errors)
        column.addWidget(words)
        column.addSpacing(10)
        column.addWidget(add, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)
        return page

    def _where_fold(self) -> None:
        fold = self.where = self.inspector.add(Fold("Where and with what"))
        self.boxes: dict[str, ChoiceBox] = {}
        for kind, words in (
            ("site", "The place to observe from"),
            ("rig", "Telescope and camera"),
            ("target", "What to shoot"),
        ):
            box = ChoiceBox(kind, words)
            box.textActivated.connect(
                lambda name, k=kind: self.session.planning.set_plan(f"choose the {k}", **{k: name})
            )
            self.boxes[kind] = box
            fold.add(box)
        self.edit = button(
            "Sites, rigs, filters, targets…",
            "Add, change, import and export what is known once (Ctrl+T)",
        )
        self.edit.clicked.connect(self.edit_things)
        fold.add(self.edit)
        self.high = ValueSlider(
            "target above",
            0,
            60,
            25,
            "The lowest altitude worth shooting at",
            1,
            lambda v: f"{v:.0f}°",
        )
        self.high.settled.connect(
            lambda v: self.session.planning.set_plan("target above", min_altitude=v)
        )
        self.dark = ValueSlider(
            "Sun below",
            -18,
            -6,
            -18,
            "How dark it must be: 18° is astronomical darkness;\n"
            "narrow filters bear the brighter nights of a high-latitude summer",
            1,
            lambda v: f"{v:.0f}°".replace("-", "−"),
        )
        self.dark.settled.connect(
            lambda v: self.session.planning.set_plan("Sun below", sun_below=v)
        )
        self.overlap = ValueSlider(
            "panel overlap",
            0,
            0.5,
            0.15,
            "How much the panels of a mosaic share",
            0.01,
            lambda v: f"{100 * v:.0f} %",
        )
        self.overlap.settled.connect(
            lambda v: self.session.planning.set_plan("panel overlap", overlap=v)
        )
        fold.add(self.overlap)
        fold.add(self.high)
        fold.add(self.dark)
        self.forecast = button("forecast", "", "quiet")
        self.forecast.clicked.connect(self.choose_forecast)
        fold.add(self.forecast)

    def _tonight_fold(self) -> None:
        fold = self.tonight_fold = self.inspector.add(Fold("Sub lengths"))
        self.subs = Figures()
        fold.add(self.subs)
        self.cap = ValueSlider(
            "longest sub",
            30,
            1800,
            600,
            "What mount and clouds allow; shorter costs read noise",
            30,
            lambda v: f"{v:.0f} s",
        )
        self.cap.settled.connect(
            lambda v: self.session.planning.set_plan("longest sub", max_sub_s=v)
        )
        fold.add(self.cap)

    def _hours_fold(self) -> None:
        fold = self.hours_fold = self.inspector.add(Fold("Hours wanted"))
        self.goal = ChoiceBox(
            "goal", "Hours of a channel: by what its SNR lacks, the same for all, or typed"
        )
        self.goal.addItems(["by SNR deficit", "the same for all", "typed"])
        self.goal.activated.connect(
            lambda i: self.session.planning.set_plan(
                "goal", goal_mode=("deficit", "even", "typed")[i]
            )
        )
        fold.add(self.goal)
        self.hours = Figures()
        fold.add(self.hours)
        self.even = ValueSlider(
            "hours each", 1, 60, 8, "Hours wanted of every channel", 0.5, lambda v: f"{v:.1f} h"
        )
        self.even.settled.connect(
            lambda v: self.session.planning.set_plan("hours each", even_hours=v)
        )
        fold.add(self.even)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("Ha 8, O3 12, S2 10")
        self.typed.setAccessibleName("hours typed")
        self.typed.setToolTip("Hours wanted, as Ha 8, O3 12, S2 10")
        self.typed.editingFinished.connect(lambda: self.type_goals(self.typed.text()))
        fold.add(self.typed)

    def _order_fold(self) -> None:
        fold = self.order_fold = self.inspector.add(Fold("Order in the night"))
        self.order = ChoiceBox(
            "order", "Blocks lose less time; cycles leave a complete set when clouds come"
        )
        self.order.addItems(["one filter after the other", "in turns of three"])
        self.order.activated.connect(
            lambda i: self.session.planning.set_plan(
                "order of the filters", order=("block", "cycle")[i], cycle_every=3
            )
        )
        fold.add(self.order)
        self.costs = Figures()
        fold.add(self.costs)
        self.refocus = ValueSlider(
            "focus every", 15, 240, 75, "Minutes between focus runs", 5, lambda v: f"{v:.0f} min"
        )
        self.refocus.settled.connect(
            lambda v: self.session.planning.set_plan("focus every", refocus_min=v)
        )
        self.dither = ValueSlider(
            "dither every", 1, 20, 3, "Subs between dithers", 1, lambda v: f"{v:.0f} subs"
        )
        self.dither.settled.connect(
            lambda v: self.session.planning.set_plan("dither every", dither_every=round(v))
        )
        fold.add(self.refocus)
        fold.add(self.dither)
        self.save = button(
            "Save the plan…",
            "Tonight's blocks as checklist (Markdown), table (CSV), JSON or calendar (Ctrl+P)",
        )
        self.save.clicked.connect(self.choose_file)
        fold.add(self.save)

    def _optics_fold(self) -> None:
        fold = self.optics_fold = self.inspector.add(Fold("Optics and care"))
        self.picture = OpticsPicture()
        fold.add(self.picture)
        self.optics = Figures()
        fold.add(self.optics)
        self.care = label(_CARE, "muted", wrap=True)
        fold.add(self.care)

    # --- gestures ---

    def edit_things(self) -> None:
        """Open the sheet of things known once."""
        dialog = ThingsDialog(self.session, self.context.window)
        dialog.show()

    def choose_forecast(self) -> None:
        """A forecast of one's own, or back to the simulated one."""
        if self.session.state.plan.forecast_csv:
            self.session.planning.set_plan("simulated forecast", forecast_csv="")
            return
        path, _ = QFileDialog.getOpenFileName(
            self.context.window, "Forecast", str(Path.home()), "CSV (*.csv)"
        )
        if path:
            self.session.planning.set_plan("own forecast", forecast_csv=path)

    def type_goals(self, text: str) -> None:
        """Hours typed for each channel; what does not fit is told and changes nothing."""
        try:
            goals = {
                channel_name(k): float(v)
                for k, v in (p.split() for p in text.split(",") if p.strip())
            }
            if goals != self.session.state.plan.goals:
                self.session.planning.set_plan("hours typed", goals=goals)
        except (ValueError, InputError):
            fault = InputError("These hours are not clear", why=text, do="Write Ha 8, O3 12")
            self.session.context.report([fault])

    def show_year(self) -> None:
        """Ask for the year; it opens when it is computed."""
        self.session.planning.request_year()

    def _year(self, nights: list[SeasonNight]) -> None:
        view = self.session.planning.snapshot.view
        if view is not None:
            dialog = YearDialog(nights, view.target.name, view.site.name, self.context.window)
            dialog.bars.chosen.connect(
                lambda d: self.session.planning.set_plan("plan another night", date=d)
            )
            dialog.show()

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
        for kind, things, chosen in (
            ("site", plan.sites, plan.site),
            ("rig", plan.rigs, plan.rig),
            ("target", plan.targets, plan.target),
        ):
            names = [t.name for t in things]
            box = self.boxes[kind]
            if [box.itemText(i) for i in range(box.count())] != names:
                box.clear()
                box.addItems(names)
            box.setEnabled(bool(names))
            if chosen in names:
                box.setCurrentIndex(names.index(chosen))
        self.cap.set_value(plan.max_sub_s)
        self.high.set_value(plan.min_altitude)
        self.overlap.set_value(plan.overlap)
        view = self.session.planning.snapshot.view
        self.overlap.setVisible(view is not None and (view.frame.panels or (1, 1)) != (1, 1))
        self.dark.set_value(plan.sun_below)
        self.goal.setCurrentIndex(("deficit", "even", "typed").index(plan.goal_mode))
        self.even.set_value(plan.even_hours)
        self.even.setVisible(plan.goal_mode == "even")
        self.typed.setVisible(plan.goal_mode == "typed")
        if not self.typed.hasFocus():
            self.typed.setText(", ".join(f"{k} {v:g}" for k, v in plan.goals.items()))
        self.refocus.set_value(plan.refocus_min)
        self.dither.set_value(plan.dither_every)
        own = Path(plan.forecast_csv).name if plan.forecast_csv else "simulated"
        self.forecast.setText(f"forecast: {own}")
        self.forecast.setToolTip(
            "Back to the simulated forecast"
            if plan.forecast_csv
            else "Simulated from date and place; press to give your own CSV"
        )
        self.order.setCurrentIndex(0 if plan.order == "block" else 1)

    def _show(self) -> None:
        self._show_choices()
        view = self.session.planning.snapshot.view
        plan = self.session.state.plan
        self.band.show_plan(view)
        self.framing.show_plan(view, plan.camera_angle, plan.overlap)
        for fold in (self.tonight_fold, self.hours_fold, self.order_fold, self.optics_fold):
            fold.setVisible(view is not None)
        self.stage.setCurrentIndex(0 if view is None else 1)
        if view is None:
            self.errors.setText(self.session.planning.snapshot.error)
            return
        self.strip.show_nights(view.strip)
        self._show_heads(view)
        self._show_figures(view)
        self._request_outlook()

    def _show_heads(self, view: PlanView) -> None:
        night = view.night
        self.heads["night"][0].setText(
            f"night of {night.date.day} {night.date:%B}, {view.site.name}"
        )
        dark = (
            f"dark {view.clock(night.dark[0][0])} to {view.clock(night.dark[-1][1])}"
            if night.dark
            else (night.state.replace("_", " "))
        )
        moon = f"Moon {100 * night.moon.lit:.0f} %" + (
            f", sets {view.clock(night.moon.set)}" if night.moon.set else ""
        )
        self.heads["night"][1].setText(f"{dark}  ·  {moon}")
        frame = view.frame
        nx, ny = frame.panels or (1, 1)
        panels = f", {nx} × {ny} panels" if nx * ny > 1 else ""
        self.heads["frame"][0].setText("framing")
        self.heads["frame"][1].setText(
            f"{frame.field[0]:.2f}° × {frame.field[1]:.2f}°  ·  "
            f"{frame.scale_arcsec:.2f}″/px, {frame.verdict}{panels}"
        )

    def _show_figures(self, view: PlanView) -> None:
        rows = []
        for c in view.channels:
            price = (
                f"+{100 * c.sub.read_noise_penalty:.0f} % noise"
                if c.sub.read_noise_penalty is not None
                else ""
            )
            rows.append(
                (
                    c.channel,
                    f"{_REASONS[c.sub.limited_by]}, {price}",
                    f"{c.sub.sub_s:.0f} s",
                    f"Free of read noise from {c.sub.ideal_s or 0:.0f} s on; a shorter sub "
                    "costs noise.\n"
                    f"One sub shows the target at SNR {c.sub_snr:.1f} a pixel: it may look "
                    "empty, and is right.",
                )
            )
        self.subs.show_rows(rows)
        self.tonight_fold.set_note("under the dark sky")
        self.hours.show_rows(
            [
                (
                    c.channel,
                    f"{clock_text(c.had_h)} of {clock_text(c.wanted_h)}",
                    clock_text(c.missing_h) if c.missing_h > 0.02 else "reached",
                    f"{c.channel}: hours of open shutter under a dark sky until all channels "
                    "are equally loud.\n"
                    f"Moonlight tonight makes its sky {c.moon_factor:.1f} times brighter.",
                )
                for c in view.channels
            ]
        )
        needed = nights_needed(view)
        nights = (
            f"done after {needed} {'night' if needed == 1 else 'nights'}"
            if needed
            else "more than 14 nights"
        )
        self.hours_fold.set_note("all reached" if needed == 0 else nights)
        self.costs.show_rows(
            [
                (
                    name,
                    f"{100 * cost.open_share:.0f} % open",
                    f"{100 * cost.completeness:.0f} % safe",
                    "Open: share of the time with the shutter open.\n"
                    "Safe: when clouds stop the night at any moment, "
                    "the mean share of its subs that the least complete channel has.",
                )
                for name, cost in (
                    ("blocks", view.tonight.block_cost),
                    ("cycles", view.tonight.cycle_cost),
                )
            ]
        )
        narrow = [c for c in view.checks if c.kept is not None]
        worst = min(narrow, key=lambda c: c.kept or 1.0, default=None)
        rows = []
        if worst is not None:
            rows.append(
                (
                    f"{worst.channel} filter at f/{view.rig.focal / view.rig.aperture_mm:.1f}",
                    "",
                    f"keeps {100 * (worst.kept or 0):.0f} %",
                    "A fast beam shifts a narrow filter to the blue",
                )
            )
        corner = min((c.corner for c in view.checks), default=1.0)
        rows.append(
            (
                "corner light",
                "",
                f"{100 * corner:.0f} %",
                "A small filter in front of a large sensor shades it",
            )
        )
        for name, part in view.shared.items():
            if name != view.rig.name:
                rows.append(
                    (
                        f"with {name.partition(',')[0]}",
                        "shared field",
                        f"{100 * part:.0f} %",
                        f"{name} keeps {100 * part:.0f} % of its field where all rigs "
                        "see the target",
                    )
                )
        self.optics.show_rows(rows)
        if worst is not None:
            chosen = next(f for f in self.session.state.plan.filters if f.channel == worst.channel)
            self.picture.show_check(chosen, view.rig, worst)
        self.picture.setVisible(worst is not None)
        damp = any(h.humidity > 0.9 for h in view.forecast.hours)
        self.care.setText(
            (_DEW if damp else "") + (_SUN if view.night.state == "polar_day" else "") + _CARE
        )
        self.optics_fold.set_note(
            "look at the optics" if any(c.wants for c in view.checks) else "all well"
        )

    def _request_outlook(self) -> None:
        view = self.session.planning.snapshot.view
        if view is None or not self.active:
            return
        names = [c.channel for c in view.channels]
        lacking = [c.channel for c in view.channels if c.missing_h > 0.02]
        channel = self.selected if self.selected in names else (lacking or names or [""])[0]
        self.session.planning.request_outlook(channel)

    def _show_outlook(self, channel: str, pictures: tuple[np.ndarray, np.ndarray]) -> None:
        view = self.session.planning.snapshot.view
        plan = next((c for c in view.channels if c.channel == channel), None) if view else None
        if plan is None:
            return
        self.heads["try"][0].setText(f"rehearsal of {channel}")
        self.heads["try"][1].setText("simulated")
        hours = clock_text(max(plan.wanted_h, plan.had_h))
        self.rehearsal.show_pictures(
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
        return ("full" if all(c.missing_h <= 0.02 for c in view.channels) else "half"), 0

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
            Command("save-plan", "Save tonight's plan", "Ctrl+P", self.choose_file, saving, ready),
        ]

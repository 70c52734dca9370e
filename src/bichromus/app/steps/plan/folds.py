"""The controls of the plan, each group a fold of the inspector."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Final

from PyQt6.QtWidgets import QFileDialog, QLineEdit

from ....core.model.channel import channel_name
from ....core.model.errors import InputError
from ....core.plan.clear_nights import USUAL_CHANCE
from ....workspace.library.things import PlanState, ThingKind
from ....workspace.planning.view import PlanView
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.plain import set_tip
from ...widgets.slider import ValueSlider
from .beside import BesideButton
from .words import cost_rows, counted_words, hour_rows, hours_note, season_words, sub_rows

_BESIDE: Final = ("rig", "target")
"""Kinds of which more than one may take part."""


class PlanFold(Fold):
    """A fold that changes the plan and shows it."""

    def __init__(self, title: str, session: Session) -> None:
        super().__init__(title)
        self.session = session
        self._set = session.planning.set_plan

    def show_choices(self, plan: PlanState) -> None:
        """What was chosen."""

    def show_view(self, view: PlanView) -> None:
        """What comes of it."""


class WhereFold(PlanFold):
    """Site, rig, target, and what of the sky counts as usable."""

    def __init__(self, session: Session, edit_things: Callable[[], None]) -> None:
        super().__init__("Where and with what", session)
        self.boxes: dict[str, ChoiceBox] = {}
        self.beside: dict[str, BesideButton] = {}
        for kind, words in (
            ("site", "The place to observe from"),
            ("rig", "Telescope and camera"),
            ("target", "What to shoot"),
        ):
            box = ChoiceBox(kind, words)
            box.textActivated.connect(lambda name, k=kind: self._choose(k, name))
            self.boxes[kind] = box
            self.add(box)
            if kind in _BESIDE:
                self.beside[kind] = BesideButton(kind, self._set)
                self.add(self.beside[kind])
        self.edit = button(
            "Sites, rigs, filters, targets…",
            "Add, change, import and export what is known once (Ctrl+T)",
        )
        self.edit.clicked.connect(edit_things)
        self.add(self.edit)
        self.high = ValueSlider(
            "target above",
            0,
            60,
            25,
            "The lowest altitude worth shooting at",
            1,
            lambda v: f"{v:.0f}°",
        )
        self.high.settled.connect(lambda v: self._set("target above", min_altitude=v))
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
        self.dark.settled.connect(lambda v: self._set("Sun below", sun_below=v))
        self.overlap = ValueSlider(
            "panel overlap",
            0,
            0.5,
            0.15,
            "How much the panels of a mosaic share",
            0.01,
            lambda v: f"{100 * v:.0f} %",
        )
        self.overlap.settled.connect(lambda v: self._set("panel overlap", overlap=v))
        self.clear = ValueSlider(
            "nights clear",
            0.05,
            1,
            USUAL_CHANCE,
            "How many of the coming nights are clear, as you know your sky:\n"
            "from it follows after how many nights the goals are likely reached",
            0.05,
            lambda v: f"{100 * v:.0f} %",
        )
        self.clear.settled.connect(lambda v: self._set("nights clear", clear_chance=v))
        self.panels = ChoiceBox(
            "panels", "One panel a night, the one that lacks most; or all of them each night"
        )
        self.panels.addItems(["one panel a night", "all panels each night"])
        self.panels.activated.connect(
            lambda i: self._set("panels in a night", panel_order=("one", "all")[i])
        )
        self.done = QLineEdit()
        self.done.setPlaceholderText("1: Ha 3 O3 2, 2: Ha 1")
        self.done.setAccessibleName("hours done by panel")
        set_tip(
            self.done,
            "Hours done of each panel, as 1: Ha 3 O3 2, 2: Ha 1.\n"
            "Left empty they come from the positions in the subs' headers.",
        )
        self.done.editingFinished.connect(lambda: self.type_done(self.done.text()))
        self.add(self.overlap)
        self.add(self.panels)
        self.add(self.done)
        self.add(self.high)
        self.add(self.dark)
        self.add(self.clear)
        self.forecast = button("forecast", "")
        self.forecast.clicked.connect(self.choose_forecast)
        self.add(self.forecast)

    def show_choices(self, plan: PlanState) -> None:
        listed = self.session.library.listed
        for kind, names, chosen in (
            ("site", [x.name for x in listed("sites")], plan.site),
            ("rig", [x.name for x in listed("rigs")], plan.rig),
            ("target", [x.name for x in listed("targets")], plan.target),
        ):
            box = self.boxes[kind]
            if [box.itemText(i) for i in range(box.count())] != names:
                box.clear()
                box.addItems(names)
            box.setEnabled(bool(names))
            if chosen in names:
                box.setCurrentIndex(names.index(chosen))
        for beside in self.beside.values():
            beside.show_choices(plan)
        self.high.set_value(plan.min_altitude)
        self.overlap.set_value(plan.overlap)
        view = self.session.planning.snapshot.view
        mosaic = view is not None and view.mosaic is not None
        for control in (self.overlap, self.panels, self.done):
            control.setVisible(mosaic)
        self.panels.setCurrentIndex(("one", "all").index(plan.panel_order))
        if not self.done.hasFocus():
            self.done.setText(_done_text(plan.panels_done))
        self.dark.set_value(plan.sun_below)
        self.clear.set_value(plan.clear_chance)
        none = "simulated" if plan.fixed_clock else "none"
        own = Path(plan.forecast_csv).name if plan.forecast_csv else none
        self.forecast.setText(f"forecast: {own}")
        set_tip(
            self.forecast,
            "Plan without it"
            if plan.forecast_csv
            else "The demo's is invented; press to give your own as CSV"
            if plan.fixed_clock
            else "The sky is taken to be clear; press to give a forecast as CSV",
        )

    def type_done(self, text: str) -> None:
        """Hours done by panel; what does not fit is told and changes nothing."""
        try:
            done = _done_of(text)
        except (ValueError, InputError):
            fault = InputError(
                "These hours are not clear", why=text, do="Write 1: Ha 3 O3 2, 2: Ha 1"
            )
            self.session.context.report([fault])
            return
        if done != self.session.state.plan.panels_done:
            self._set("hours done by panel", panels_done=done)

    def _choose(self, kind: str, name: str) -> None:
        kinds: dict[str, ThingKind] = {"site": "sites", "rig": "rigs", "target": "targets"}
        self.session.library.use(kinds[kind], name)

    def choose_forecast(self) -> None:
        """A forecast of one's own, or none."""
        if self.session.state.plan.forecast_csv:
            self._set("no forecast", forecast_csv="")
            return
        path, _ = QFileDialog.getOpenFileName(self, "Forecast", str(Path.home()), "CSV (*.csv)")
        if path:
            self._set("own forecast", forecast_csv=path)


def _done_text(done: Mapping[str, Mapping[str, float]]) -> str:
    return ", ".join(
        f"{panel}: {' '.join(f'{c} {h:g}' for c, h in hours.items())}"
        for panel, hours in sorted(done.items(), key=lambda item: int(item[0]))
    )


def _done_of(text: str) -> dict[str, dict[str, float]]:
    """Raises ValueError, UnknownName for what is not written so."""
    out: dict[str, dict[str, float]] = {}
    for part in (p for p in text.split(",") if p.strip()):
        panel, mark, rest = part.partition(":")
        words = rest.split()
        if not mark or len(words) % 2:
            raise ValueError(part)
        hours = zip(words[::2], words[1::2], strict=True)
        out[str(int(panel))] = {channel_name(c): float(h) for c, h in hours}
    return out


class SubsFold(PlanFold):
    """How long a sub is, and why."""

    def __init__(self, session: Session, show_light: Callable[[], None]) -> None:
        super().__init__("Sub lengths", session)
        self.subs = Figures()
        self.add(self.subs)
        self.light = button(
            "what the light is made of…",
            "Target, natural sky, glow, Moon, twilight, dark current and read noise\n"
            "of every filter under each sky of tonight (Shift+I)",
            "quiet",
        )
        self.light.clicked.connect(show_light)
        self.add(self.light)
        self.cap = ValueSlider(
            "longest sub",
            30,
            1800,
            600,
            "What mount and clouds allow; shorter costs read noise",
            30,
            lambda v: f"{v:.0f} s",
        )
        self.cap.settled.connect(lambda v: self._set("longest sub", max_sub_s=v))
        self.add(self.cap)

    def show_choices(self, plan: PlanState) -> None:
        self.cap.set_value(plan.max_sub_s)

    def show_view(self, view: PlanView) -> None:
        self.subs.show_rows(sub_rows(view))
        self.set_note("worth if half, if twice as long")


class HoursFold(PlanFold):
    """Hours wanted of each channel, and by which rule."""

    def __init__(self, session: Session) -> None:
        super().__init__("Hours wanted", session)
        self.goal = ChoiceBox(
            "goal", "Hours of a channel: by what its SNR lacks, the same for all, or typed"
        )
        self.goal.addItems(["by SNR deficit", "the same for all", "typed"])
        self.goal.activated.connect(
            lambda i: self._set("goal", goal_mode=("deficit", "even", "typed")[i])
        )
        self.add(self.goal)
        self.hours = Figures()
        self.add(self.hours)
        self.season = label("", "muted", wrap=True)
        set_tip(
            self.season,
            "The last night with an hour of the target above your limits,\n"
            "and how many of the nights until then are likely clear",
        )
        self.add(self.season)
        self.counted = label("", "muted", wrap=True)
        set_tip(
            self.counted,
            "An hour of another rig counts as much as it adds to SNR squared under a dark sky,\n"
            "over what an hour of the plan's rig adds: aperture, filter, camera and sky together",
        )
        self.add(self.counted)
        self.even = ValueSlider(
            "hours each", 1, 60, 8, "Hours wanted of every channel", 0.5, lambda v: f"{v:.1f} h"
        )
        self.even.settled.connect(lambda v: self._set("hours each", even_hours=v))
        self.add(self.even)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("Ha 8, O3 12, S2 10")
        self.typed.setAccessibleName("hours typed")
        set_tip(self.typed, "Hours wanted, as Ha 8, O3 12, S2 10")
        self.typed.editingFinished.connect(lambda: self.type_goals(self.typed.text()))
        self.add(self.typed)

    def show_choices(self, plan: PlanState) -> None:
        self.goal.setCurrentIndex(("deficit", "even", "typed").index(plan.goal_mode))
        self.even.set_value(plan.even_hours)
        self.even.setVisible(plan.goal_mode == "even")
        self.typed.setVisible(plan.goal_mode == "typed")
        if not self.typed.hasFocus():
            self.typed.setText(", ".join(f"{k} {v:g}" for k, v in plan.goals.items()))

    def show_view(self, view: PlanView) -> None:
        self.hours.show_rows(hour_rows(view))
        chance = self.session.state.plan.clear_chance
        self.set_note(hours_note(view, chance))
        self.season.setText(season_words(view, chance))
        self.season.setVisible(bool(self.season.text()))
        self.counted.setText(counted_words(view))
        self.counted.setVisible(bool(self.counted.text()))

    def type_goals(self, text: str) -> None:
        """Hours typed for each channel; what does not fit is told and changes nothing."""
        try:
            goals = {
                channel_name(k): float(v)
                for k, v in (p.split() for p in text.split(",") if p.strip())
            }
            if goals != self.session.state.plan.goals:
                self._set("hours typed", goals=goals)
        except (ValueError, InputError):
            fault = InputError("These hours are not clear", why=text, do="Write Ha 8, O3 12")
            self.session.context.report([fault])


class OrderFold(PlanFold):
    """In which order the filters are shot, and what that costs."""

    def __init__(self, session: Session, choose_file: Callable[[], None]) -> None:
        super().__init__("Order in the night", session)
        self.order = ChoiceBox(
            "order", "Blocks lose less time; cycles leave a complete set when clouds come"
        )
        self.order.addItems(["one filter after the other", "in turns of three"])
        self.order.activated.connect(
            lambda i: self._set("order of the filters", order=("block", "cycle")[i], cycle_every=3)
        )
        self.add(self.order)
        self.costs = Figures()
        self.add(self.costs)
        self.refocus = ValueSlider(
            "focus every", 15, 240, 75, "Minutes between focus runs", 5, lambda v: f"{v:.0f} min"
        )
        self.refocus.settled.connect(lambda v: self._set("focus every", refocus_min=v))
        self.cooling = ValueSlider(
            "air cools by",
            0.2,
            4,
            1,
            "Degrees an hour of a clear night: tells when a rig focused by temperature wants a run",
            0.1,
            lambda v: f"{v:.1f} °C/h",
        )
        self.cooling.settled.connect(
            lambda v: self._set("how fast the air cools", cooling_c_h=round(v, 1))
        )
        self.dither = ValueSlider(
            "dither every", 1, 20, 3, "Subs between dithers", 1, lambda v: f"{v:.0f} subs"
        )
        self.dither.settled.connect(lambda v: self._set("dither every", dither_every=round(v)))
        self.add(self.refocus)
        self.add(self.cooling)
        self.add(self.dither)
        self.save = button(
            "Save the plan…",
            "Tonight's blocks as checklist (Markdown), table (CSV), JSON or calendar (Ctrl+P)",
        )
        self.save.clicked.connect(choose_file)
        self.add(self.save)

    def show_choices(self, plan: PlanState) -> None:
        used = plan.rig, *plan.with_rigs
        ways = {r.focus_by for r in plan.rigs if r.name in used or not plan.rig}
        self.refocus.setVisible("time" in ways or not ways)
        self.refocus.set_value(plan.refocus_min)
        self.cooling.setVisible("temperature" in ways)
        self.cooling.set_value(plan.cooling_c_h)
        self.dither.set_value(plan.dither_every)
        self.order.setCurrentIndex(0 if plan.order == "block" else 1)

    def show_view(self, view: PlanView) -> None:
        self.costs.show_rows(cost_rows(view))

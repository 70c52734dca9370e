"""The Blend step: palette sheet under the picture; mix, balance, stretch and colour beside it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QCheckBox

from ....core.blend import available_mappings
from ....core.blend.level import level_channels
from ....core.blend.mappings import MAPPINGS, mapping_words
from ....core.model.recipe import Recipe
from ...command import Command
from ...shell.route import StepState
from ...widgets.dial import BalanceDial
from ...widgets.fold import Figures, Fold, button
from ...widgets.later import Later
from ...widgets.mixtable import MixTable
from ...widgets.sheet import Item, Sheet
from ...widgets.text import snr_text
from ..step import Step, StepContext
from .tone import ColourFold, StretchFold, ValueBinding

_NUDGE = 0.02
_WORDS = "blend mapping"


class BlendStep(Step):
    """Everything here changes the recipe; nothing touches the channels."""

    id = "blend"
    title = "Blend"
    tip = "Mix the channels into a picture, and weigh colour against clean."
    place = 50

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.sheet = Sheet("palettes")
        self.sheet.chosen.connect(self.session.blend.set_mapping)
        self.bottom_panel = self.sheet
        self._all_rows = False
        self._mix_fold()
        self._balance_fold()
        self.inspector.add(StretchFold(self.session, context.bridge))
        self.inspector.add(ColourFold(self.session, context.bridge))
        for fold in self.inspector.findChildren(ValueBinding):
            context.bridge.state.connect(fold.show_state)
            fold.show_state()
        self._later = Later(self, lambda: self._show(self.session.blend.snapshot.recipe))
        context.bridge.recipe.connect(self._later.ask)
        context.bridge.judged.connect(self._later.ask)
        context.bridge.thumbnail.connect(self.sheet.put)
        self._show(self.session.blend.snapshot.recipe)

    def _mix_fold(self) -> None:
        fold = self.mix_fold = self.inspector.add(Fold("Mix"))
        self.table = MixTable()
        self.table.moved.connect(self.session.blend.show_mix)
        self.table.settled.connect(self.session.blend.set_mix)
        fold.add(self.table)
        self.rows_button = button(
            "more channels", "Show the channels that this mix takes nothing of", "quiet"
        )
        self.rows_button.clicked.connect(self._toggle_rows)
        fold.add(self.rows_button)
        self.share = ValueBinding(
            self.session,
            "O3 in green",
            "green_share",
            0.0,
            1.0,
            0.60,
            "How much of green comes from O3; the rest comes from Ha.",
        )
        self.spread = ValueBinding(
            self.session,
            "hue spread",
            "hue_spread",
            0.0,
            1.0,
            0.5,
            "0 shows each line in its own hue, where Ha and S2 look alike;\n"
            "more exaggerates the difference and keeps the order of the wavelengths.",
        )
        self.mapping_controls = {"green_share": self.share, "hue_spread": self.spread}
        for control in self.mapping_controls.values():
            fold.add(control)

    def _balance_fold(self) -> None:
        fold = self.balance_fold = self.inspector.add(Fold("Balance"))
        self.dial = BalanceDial()
        self.dial.moved.connect(
            lambda v: self.session.blend.show_settings(balance=v, balance_auto=False)
        )
        self.dial.settled.connect(
            lambda v: self.session.blend.set_settings("balance", balance=v, balance_auto=False)
        )
        fold.add(self.dial)
        self.auto = QCheckBox("choose it from the noise allowed (A)")
        self.auto.setAccessibleName("automatic balance")
        self.auto.setToolTip(
            "The smallest balance whose predicted background noise stays under the limits (A)."
        )
        self.auto.clicked.connect(self.set_auto)
        fold.add(self.auto)
        self.figures = Figures()
        fold.add(self.figures)
        self.allowed = ValueBinding(
            self.session,
            "noise allowed",
            "limits",
            0.3,
            3.0,
            1.0,
            "How much background noise the automatic balance and the advice allow.\n"
            "100 % is lightness 0.025, colour 0.030, blotches 0.006 (Oklab).",
            text=lambda v: f"{100 * v:.0f} %",
        )
        fold.add(self.allowed)

    def set_auto(self, on: bool) -> None:
        """Let the limits choose the balance, or keep the one that they chose."""
        balance = (
            self.session.blend.snapshot.recipe.settings.balance
            if self.session.blend.snapshot.recipe
            else self.session.state.blend.balance
        )
        self.session.blend.set_settings(
            "automatic balance" if on else "balance by hand", balance=balance, balance_auto=on
        )

    def nudge(self, step: float) -> None:
        """Move the balance by a step."""
        self.dial.nudge(step)

    def step_palette(self, step: int) -> None:
        """The next or the previous palette of the sheet."""
        ids = [m.id for m in available_mappings(self.session.channels.snapshot.names)]
        here = (
            self.session.blend.snapshot.recipe.settings.mapping
            if self.session.blend.snapshot.recipe
            else ""
        )
        if ids:
            self.session.blend.set_mapping(
                ids[(ids.index(here) + step) % len(ids)] if here in ids else ids[0]
            )

    def _toggle_rows(self) -> None:
        self._all_rows = not self._all_rows
        self._show(self.session.blend.snapshot.recipe)

    def enter(self) -> None:
        super().enter()
        self._show(self.session.blend.snapshot.recipe)
        self.context.canvas.set_alone(None)

    def select(self, channel: str) -> None:
        if self.active:
            self.context.canvas.set_alone(None)

    def _show(self, recipe: Recipe | None) -> None:
        names = self.session.channels.snapshot.names
        mapping = recipe.settings.mapping if recipe else ""
        items = [Item(m.id, m.title, "", None, m.words) for m in available_mappings(names)]
        self.sheet.set_items(items, mapping)
        for widget in (self.table, self.dial, self.auto, self.figures, self.allowed):
            widget.setEnabled(recipe is not None)
        if recipe is None:
            self.mix_fold.set_note("")
            self.balance_fold.set_note("")
            return
        settings = recipe.settings
        used = settings.used()
        rows = [n for n in names if self._all_rows or n in used]
        noise = self.session.blend.snapshot.noise
        self.table.show_mix(
            rows, {o: dict(r) for o, r in settings.mix.items()}, noise.outputs if noise else {}
        )
        self.mix_fold.set_note(mapping_words(mapping))
        hidden = [n for n in names if n not in used]
        self.rows_button.setVisible(bool(hidden))
        self.rows_button.setText("fewer channels" if self._all_rows else f"and {', '.join(hidden)}")
        controls = MAPPINGS[mapping].controls if mapping in MAPPINGS else ()
        for name, control in self.mapping_controls.items():
            control.setVisible(name in controls)
        wanted = self.session.state.blend
        # what was set by hand is never older than the last gesture; a recipe may be
        balance = settings.balance if wanted.balance_auto else wanted.balance
        self.dial.set_value(balance, self.session.blend.snapshot.suggested_balance)
        self.auto.setChecked(wanted.balance_auto)
        self.balance_fold.set_note("automatic" if wanted.balance_auto else "by hand")
        self._show_levels(recipe)

    def _show_levels(self, recipe: Recipe) -> None:
        levels = level_channels(recipe.channels, recipe.settings.used(), recipe.settings.balance)
        rows = []
        for name in recipe.settings.used():
            lift = (
                f"level {100 * levels.lift(name):.0f} %"
                if recipe.channels[name].signal > 0
                else "no signal"
            )
            tip = (
                f"{name} enters at {100 * levels.lift(name):.0f} % of the level at which all "
                "channels are equally "
                f"loud,\nand its noise is then {100 * levels.noise[name]:.1f} % of that level."
            )
            rows.append(
                (
                    f"{name}, SNR {snr_text(recipe.channels[name].snr)}",
                    lift,
                    f"noise {100 * levels.noise[name]:.1f} %",
                    tip,
                )
            )
        self.figures.show_rows(rows)

    def figure(self, channel: str) -> tuple[str, str]:
        recipe = self.session.blend.snapshot.recipe
        if recipe is None or channel not in recipe.settings.used():
            return "in the blend", "no"
        levels = level_channels(recipe.channels, recipe.settings.used(), recipe.settings.balance)
        return "level", f"{100 * levels.lift(channel):.0f} %"

    def status(self) -> tuple[StepState, int]:
        return ("full" if self.session.blend.snapshot.recipe is not None else "empty"), 0

    def commands(self) -> list[Command]:
        def ready() -> bool:
            return self.session.blend.snapshot.recipe is not None

        def blend(
            id_: str, title: str, key: str, run: Callable[[], object], words: str = "blend"
        ) -> Command:
            return Command(id_, title, key, lambda: run() if ready() else None, words, ready)

        def toggle_auto() -> None:
            self.set_auto(not self.session.state.blend.balance_auto)

        return [
            blend("cleaner", "Balance toward clean", "]", partial(self.nudge, _NUDGE)),
            blend("colour", "Balance toward colour", "[", partial(self.nudge, -_NUDGE)),
            blend("auto", "Balance automatic, or by hand", "A", toggle_auto),
            blend("next-palette", "Next palette", "P", partial(self.step_palette, 1), _WORDS),
            blend(
                "last-palette",
                "Previous palette",
                "Shift+P",
                partial(self.step_palette, -1),
                _WORDS,
            ),
        ]

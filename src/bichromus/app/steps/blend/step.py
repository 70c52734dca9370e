"""The Blend step: palette sheet under the picture; mix, balance, stretch and colour beside it."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox

from ....core.blend import available_mappings
from ....core.blend.level import level_channels
from ....core.model.recipe import Recipe
from ....workspace.blend.publish import mapping_words
from ...shell.route import State
from ...widgets.dial import BalanceDial
from ...widgets.fold import Figures, Fold, button
from ...widgets.later import Later
from ...widgets.mixtable import MixTable
from ...widgets.sheet import Item, Sheet
from ...widgets.text import snr_text
from ..step import Desk, Step
from .tone import ColourFold, StretchFold, ValueBinding

_LINES = ("Ha", "O3", "S2", "Hb")


class BlendStep(Step):
    """Everything here changes the recipe; nothing touches the channels."""

    id = "blend"
    title = "Blend"
    tip = "Mix the channels into a picture, and weigh colour against clean."

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.sheet = Sheet("palettes")
        self.sheet.chosen.connect(self.session.set_mapping)
        self.shelf = self.sheet
        self._all_rows = False
        self._mix_fold()
        self._balance_fold()
        self.inspector.add(StretchFold(self.session, desk.bridge))
        self.inspector.add(ColourFold(self.session, desk.bridge))
        for fold in self.inspector.findChildren(ValueBinding):
            desk.bridge.state.connect(fold.show_state)
            fold.show_state(self.session.state)
        self._later = Later(self, lambda: self._show(self.session.recipe))
        desk.bridge.recipe.connect(lambda _recipe: self._later.ask())
        desk.bridge.judged.connect(self._later.ask)
        desk.bridge.thumbnail.connect(self.sheet.put)
        self._show(self.session.recipe)

    def _mix_fold(self) -> None:
        fold = self.mix_fold = self.inspector.add(Fold("Mix"))
        self.table = MixTable()
        self.table.moved.connect(lambda o, c, w: self.session.set_mix(o, c, w, passing=True))
        self.table.settled.connect(self.session.set_mix)
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
        fold.add(self.share)
        fold.add(self.spread)

    def _balance_fold(self) -> None:
        fold = self.balance_fold = self.inspector.add(Fold("Balance"))
        self.dial = BalanceDial()
        self.dial.moved.connect(
            lambda v: self.session.set_settings("balance", True, balance=v, balance_auto=False)
        )
        self.dial.settled.connect(
            lambda v: self.session.set_settings("balance", balance=v, balance_auto=False)
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
            self.session.recipe.settings.balance
            if self.session.recipe
            else self.session.state.settings.balance
        )
        self.session.set_settings(
            "automatic balance" if on else "balance by hand", balance=balance, balance_auto=on
        )

    def nudge(self, step: float) -> None:
        """Move the balance by a step."""
        self.dial.nudge(step)

    def step_palette(self, step: int) -> None:
        """The next or the previous palette of the sheet."""
        ids = [m.id for m in available_mappings(self.session.channels.names)]
        here = self.session.recipe.settings.mapping if self.session.recipe else ""
        if ids:
            self.session.set_mapping(
                ids[(ids.index(here) + step) % len(ids)] if here in ids else ids[0]
            )

    def _toggle_rows(self) -> None:
        self._all_rows = not self._all_rows
        self._show(self.session.recipe)

    def enter(self) -> None:
        super().enter()
        self._show(self.session.recipe)
        self.desk.canvas.set_alone(None)

    def select(self, channel: str) -> None:
        if self.active:
            self.desk.canvas.set_alone(None)

    def _show(self, recipe: Recipe | None) -> None:
        names = self.session.channels.names
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
        noise = self.session.noise
        self.table.show_mix(
            rows, {o: dict(r) for o, r in settings.mix.items()}, noise.outputs if noise else {}
        )
        self.mix_fold.set_note(mapping_words(mapping))
        hidden = [n for n in names if n not in used]
        self.rows_button.setVisible(bool(hidden))
        self.rows_button.setText("fewer channels" if self._all_rows else f"and {', '.join(hidden)}")
        self.share.setVisible(mapping == "bicolour-shared")
        self.spread.setVisible(mapping == "line-hues")
        self.dial.set_value(settings.balance, self.session.suggested)
        self.auto.setChecked(self.session.state.settings.balance_auto)
        self.balance_fold.set_note(
            "automatic" if self.session.state.settings.balance_auto else "by hand"
        )
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
        recipe = self.session.recipe
        if recipe is None or channel not in recipe.settings.used():
            return "in the blend", "no"
        levels = level_channels(recipe.channels, recipe.settings.used(), recipe.settings.balance)
        return "level", f"{100 * levels.lift(channel):.0f} %"

    def station(self) -> tuple[State, int]:
        return ("full" if self.session.recipe is not None else "empty"), 0

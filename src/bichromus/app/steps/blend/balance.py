"""Colour against clean: how loud each channel enters, and how much of its noise is taken off."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox

from ....core.blend.level import levels_at
from ....core.model.recipe import Cleaned, Recipe
from ....core.model.settings import CleanSettings
from ...widgets.dial import BalanceDial
from ...widgets.fold import Figures, button
from ...widgets.plain import set_tip
from ...widgets.text import snr_text
from ..step import StepContext
from .bindings import SwitchBinding, ValueBinding
from .section import Section

_REMOVED = "see what is taken off"
_BACK = "back to the picture"


class BalanceSection(Section):
    """The dial, the cleaning, and what comes of them for each channel."""

    title = "Balance"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        blend = self.session.blend
        self.dial = BalanceDial()
        self.dial.moved.connect(lambda v: blend.show_settings(balance=v, balance_auto=False))
        self.dial.settled.connect(
            lambda v: blend.set_settings("balance", balance=v, balance_auto=False)
        )
        self.auto = QCheckBox("choose it from the noise allowed (A)")
        self.auto.setAccessibleName("automatic balance")
        set_tip(
            self.auto,
            "The smallest balance whose predicted background noise stays under the limits (A).",
        )
        self.auto.clicked.connect(self.set_auto)
        self.clean_auto = SwitchBinding(
            self.session,
            "automatic cleaning",
            "cleaning.auto",
            "clean just enough for it",
            "Takes noise off a channel that is raised, just enough for the noise allowed.\n"
            "What a strong line shows to be light is kept; nothing is drawn that is not there.",
        )
        self.clean = ValueBinding(
            self.session,
            "clean",
            "cleaning.amount",
            0.0,
            1.0,
            CleanSettings().amount,
            "How much of the noise that can be told from light is taken off: 0 nothing, 1 all.",
        )
        self.removed = button(
            _REMOVED, "The noise taken off the channel that is cleaned most", "quiet"
        )
        self.removed.setCheckable(True)
        self.removed.clicked.connect(self._show_removed)
        self.figures = Figures()
        self.allowed = ValueBinding(
            self.session,
            "noise allowed",
            "limits",
            0.3,
            3.0,
            1.0,
            "How much background noise balance, cleaning and advice allow.\n"
            "100 % is lightness 0.025, colour 0.030, blotches 0.006 (Oklab).",
            text=lambda v: f"{100 * v:.0f} %",
        )
        self.add_all(
            self.dial,
            self.auto,
            self.allowed,
            self.clean_auto,
            self.clean,
            self.figures,
            self.removed,
        )

    def set_auto(self, on: bool) -> None:
        """Let the limits choose the balance, or keep the one that they chose."""
        recipe = self.snapshot.recipe
        balance = recipe.settings.balance if recipe else self.session.state.blend.balance
        self.session.blend.set_settings(
            "automatic balance" if on else "balance by hand", balance=balance, balance_auto=on
        )

    def _show_removed(self, on: bool) -> None:
        """On the stage: what is taken off the channel that is cleaned most, or the picture."""
        self.removed.setChecked(on)
        self.removed.setText(_BACK if on else _REMOVED)
        recipe, canvas = self.snapshot.recipe, self.context.canvas
        cleaned = recipe.cleaned if recipe is not None else {}
        if not on or not cleaned:
            canvas.set_alone(None)
            return
        name = max(cleaned, key=lambda n: max(cleaned[n].fine, cleaned[n].coarse))
        words = f"taken off, {100 * cleaned[name].fine:.0f} % of what is found"
        canvas.set_alone(name, (name, words), view_mode="removed")

    def leave(self) -> None:
        """Back to the picture."""
        if self.removed.isChecked():
            self._show_removed(False)

    def state_line(self) -> str:
        return "automatic" if self.session.state.blend.balance_auto else "by hand"

    def show_recipe(self) -> None:
        super().show_recipe()
        recipe = self.snapshot.recipe
        for widget in (self.dial, self.auto, self.figures, self.allowed):
            widget.setEnabled(recipe is not None)
        if recipe is None:
            self.set_note("")
            return
        wanted = self.session.state.blend
        # what was set by hand is never older than the last gesture; a recipe may be
        balance = recipe.settings.balance if wanted.balance_auto else wanted.balance
        self.dial.set_value(balance, self.snapshot.suggested_balance)
        self.auto.setChecked(wanted.balance_auto)
        able = bool(recipe.figures.cleaning)
        self.clean_auto.setVisible(able)
        self.clean.setVisible(able and not wanted.cleaning.auto)
        self.figures.show_rows(_rows(recipe))
        self.removed.setVisible(bool(recipe.cleaned))


def _rows(recipe: Recipe) -> list[tuple[str, str, str, str]]:
    levels = levels_at(recipe)
    rows = []
    for name in recipe.settings.mixed():
        lift, noise = 100 * levels.lift(name), 100 * levels.noise[name]
        cleaned = recipe.cleaned.get(name, Cleaned())
        loud = f"level {lift:.0f} %" if recipe.channels[name].signal > 0 else "no signal"
        parts = [loud] if round(lift) != 100 or not name_cleaned(cleaned) else []
        if name_cleaned(cleaned):
            parts.append(f"cleaned {100 * cleaned.fine:.0f} %")
        tip = (
            f"{name} enters at {lift:.0f} % of the level at which all channels are equally loud,\n"
            f"and its noise is then {noise:.1f} % of that level."
        )
        if name_cleaned(cleaned):
            tip += (
                f"\n{100 * cleaned.fine:.0f} % of its fine and {100 * cleaned.coarse:.0f} % of its "
                f"coarse noise is taken off; {100 * cleaned.left_px:.0f} % of the noise is left."
            )
        snr = snr_text(recipe.channels[name].snr)
        rows.append((f"{name}, SNR {snr}", ", ".join(parts), f"noise {noise:.1f} %", tip))
    return rows


def name_cleaned(cleaned: Cleaned) -> bool:
    """Whether anything is taken off."""
    return max(cleaned.fine, cleaned.coarse) > 0

"""What red, green, blue and lightness take of each channel, and what a mapping asks beside it."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from ....core.blend.inputs import lines_on_top
from ....core.blend.lifts import INTO
from ....core.blend.luminance import shares_of
from ....core.blend.mappings import MAPPINGS, mapping_words
from ....core.model.channel import COLOURS
from ....core.model.recipe import Recipe
from ....workspace.session import Session
from ...widgets.fold import button
from ...widgets.mixtable import MixTable
from ..step import StepContext
from .bindings import Binding, ChoiceBinding, SwitchBinding, ValueBinding
from .section import Section
from .stage_frame import StageFrame
from .white import WhiteControls

_WHERE = "see where they act"
_BACK = "back to the picture"


class MixSection(Section):
    """The mix table, and the controls of the mapping that is chosen."""

    title = "Mix"
    luminance_asked = pyqtSignal()

    def __init__(self, context: StepContext, frame: StageFrame) -> None:
        super().__init__(context)
        self._all_rows = False
        self.table = MixTable()
        self.table.moved.connect(self.session.blend.show_mix)
        self.table.settled.connect(self.session.blend.set_mix)
        self.table.luminance_asked.connect(self.luminance_asked)
        self.rows_button = button(
            "more channels", "Show the channels that this mix takes nothing of", "quiet"
        )
        self.rows_button.clicked.connect(self._toggle_rows)
        self.mapping_controls = self._controls()
        self.white = WhiteControls(self.session, frame)
        self.where = button(_WHERE, "Darken what the lines on top leave as it is", "quiet")
        self.where.setCheckable(True)
        self.where.clicked.connect(self._show_where)
        self.add_all(self.table, self.rows_button)
        for controls in self.mapping_controls.values():
            self.add_all(*controls)
        self.add_all(self.where, self.white)

    def _controls(self) -> dict[str, tuple[Binding, ...]]:
        """Controls by what a mapping calls for."""
        s = self.session
        self.share_auto = SwitchBinding(
            s,
            "green by loudness",
            "green_auto",
            "share green by loudness",
            "Each part of the picture takes its green from the line that is louder there,\n"
            "so that both keep their detail.",
        )
        self.share = ValueBinding(
            s,
            "O3 in green",
            "green_share",
            0.0,
            1.0,
            0.50,
            "How much of green comes from O3; the rest comes from Ha.",
        )
        self.spread = ValueBinding(
            s,
            "hue spread",
            "hue_spread",
            0.0,
            1.0,
            0.5,
            "0 shows each line in its own hue, where Ha and S2 look alike;\n"
            "more exaggerates the difference and keeps the order of the wavelengths.",
        )
        self.amounts = {n: LiftAmount(s, n) for n in INTO}
        self.lift_by = ChoiceBinding(
            s,
            "lines go",
            "lift.by",
            (("red", "into their colours"), ("lift", "into the lightness"), ("both", "into both")),
            "Into their colours: Ha reddens what it lights, with its share of blue.\n"
            "Into the lightness: the picture is brightened where the line is brighter.",
        )
        self.continuum = SwitchBinding(
            s,
            "continuum off",
            "lift.continuum",
            "take the light of stars off the lines",
            "A line filter also passes what all stars shine: taken off, only gas is lifted.",
        )
        return {
            "green_share": (self.share_auto, self.share),
            "hue_spread": (self.spread,),
            "lift": (*self.amounts.values(), self.lift_by, self.continuum),
        }

    def state_line(self) -> str:
        recipe = self.snapshot.recipe
        return mapping_words(recipe.settings.mapping) if recipe else ""

    def _toggle_rows(self) -> None:
        self._all_rows = not self._all_rows
        self.show_recipe()

    def show_recipe(self) -> None:
        super().show_recipe()
        recipe = self.snapshot.recipe
        self.table.setEnabled(recipe is not None)
        if recipe is None:
            return
        settings, names = recipe.settings, self.snapshot.channels.names
        used = settings.used()
        rows = [n for n in names if self._all_rows or n in used]
        noise = self.snapshot.noise
        self.table.show_mix(
            rows,
            {o: dict(r) for o, r in settings.mix.items()},
            noise.outputs if noise else {},
            shares_of(recipe),
            _lifted(recipe),
        )
        hidden = [n for n in names if n not in used]
        self.rows_button.setVisible(bool(hidden))
        self.rows_button.setText("fewer channels" if self._all_rows else f"and {', '.join(hidden)}")
        self._show_controls(recipe)

    def _show_controls(self, recipe: Recipe) -> None:
        mapping = MAPPINGS.get(recipe.settings.mapping)
        asked = set(mapping.controls if mapping else ())
        if recipe.settings.lifted:
            asked.add("lift")
        for name, controls in self.mapping_controls.items():
            for control in controls:
                control.setVisible(name in asked)
        if "green_share" in asked:
            auto = self.session.state.blend.green_auto
            self.share.setEnabled(not auto)
            if auto:
                self.share.slider.set_value(recipe.settings.green_share)
        for name, amount in self.amounts.items():
            amount.setVisible(name in recipe.settings.lifted)
        lifted = bool(lines_on_top(recipe))
        self.where.setVisible(lifted)
        if self.where.isChecked() and not lifted:
            self.leave()
        broad = set(COLOURS) <= set(recipe.settings.used())
        self.white.setVisible(broad)
        if broad:
            self.white.show_recipe(recipe)

    def _show_where(self, on: bool) -> None:
        """On the stage: where lines on top act, or the picture."""
        self.where.setChecked(on)
        self.where.setText(_BACK if on else _WHERE)
        self.context.canvas.set_lines_shown(on)

    def leave(self) -> None:
        """Back to the picture."""
        self._show_where(False)


class LiftAmount(ValueBinding):
    """How much of a line lies on the broadband picture."""

    def __init__(self, session: Session, line: str) -> None:
        self.line = line
        super().__init__(
            session,
            f"{line} on top",
            "lift.amount",
            0.0,
            2.0,
            1.0,
            f"1 makes the knots of {line} as bright as the picture that they lie on; 0 leaves it.",
        )

    def changes(self, value: float) -> dict[str, object]:
        amounts = {**self._session.state.blend.lift.amount, self.line: value}
        return {"lift": {"amount": amounts}}

    def show_state(self) -> None:
        self.slider.set_value(self._session.state.blend.lift.of(self.line))


def _lifted(recipe: Recipe) -> dict[str, dict[str, float]]:
    """By output what lines on top add to it, where their knots are."""
    if recipe.settings.lift.by == "lift":
        return {}
    found: dict[str, dict[str, float]] = {}
    for name in recipe.settings.on_top():
        for output, share in INTO[name].items():
            found.setdefault(output, {})[name] = share * recipe.settings.lift.of(name)
    return found

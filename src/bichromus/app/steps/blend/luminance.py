"""Whose lightness the picture has."""

from __future__ import annotations

from typing import Final

from ....core.model.settings import LuminanceSettings
from ...widgets.fold import label
from ..step import StepContext
from .bindings import ChoiceBinding, ValueBinding
from .section import Section

_SOURCES: Final = (
    ("none", "that of the mix"),
    ("L", "measured, L"),
    ("C", "filtered, C"),
    ("Ha", "Ha where brighter"),
    ("synthetic", "all, by SNR"),
)
_SHORT: Final = {"Ha": "Ha where brighter", "synthetic": "all by SNR"}


class LuminanceSection(Section):
    """None by default: the mix has a lightness of its own."""

    title = "Luminance"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        s, default = self.session, LuminanceSettings()
        self.source = ChoiceBinding(
            s,
            "lightness",
            "luminance.source",
            _SOURCES,
            "Whose lightness the picture takes: its own, a luminance that was shot (L, or C\n"
            "behind a filter against town light), Ha where that is brighter, or one made of\n"
            "all channels of the mix, each by its SNR.",
        )
        self.amount = ValueBinding(
            s,
            "amount",
            "luminance.amount",
            0.0,
            1.0,
            default.amount,
            "0 keeps the lightness of the mix, 1 takes the other whole.",
        )
        self.chroma = ValueBinding(
            s,
            "colour goes along",
            "luminance.chroma",
            0.0,
            1.0,
            default.chroma,
            "1 keeps the saturation where lightness changes;\n"
            "less holds colour back where the luminance lifts its noise.",
        )
        self.words = label("", "muted", wrap=True)
        self.add_all(self.source, self.amount, self.chroma, self.words)

    def state_line(self) -> str:
        settings = self.session.state.blend.luminance
        if settings.source == "none" or settings.amount == 0:
            return "that of the mix"
        return f"{_SHORT.get(settings.source, settings.source)}, {100 * settings.amount:.0f} %"

    def show_recipe(self) -> None:
        super().show_recipe()
        names = self.snapshot.channels.names
        many = self.snapshot.recipe is not None and len(self.snapshot.recipe.settings.mixed()) > 1
        measured = [n for n in ("L", "C", "Ha") if n in names]
        self.source.only(["none", *measured, *(["synthetic"] if many else [])])
        on = self.session.state.blend.luminance.source != "none"
        self.amount.setEnabled(on)
        self.chroma.setEnabled(on)
        missing = "No luminance is among the channels." if not {"L", "C"} & set(names) else ""
        self.words.setText(missing)
        self.words.setVisible(bool(missing))

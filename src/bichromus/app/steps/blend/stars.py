"""The stars of the picture: where from, how bright, how small."""

from __future__ import annotations

from typing import Final

from ....core.blend.inputs import kept_stars, puts_stars_back
from ....core.clean.star_sets import sources_of
from ....core.model.settings import StarSettings
from ...widgets.fold import label
from ..step import StepContext
from .bindings import ChoiceBinding, ValueBinding
from .section import Section

_SOURCES: Final = (
    ("auto", "the best there are"),
    ("rgb", "red, green and blue"),
    ("lines", "the lines"),
    ("none", "none"),
    ("kept", "left in the channels"),
)
_WORDS: Final = {"rgb": "from R, G and B", "lines": "from the lines"}


class StarsSection(Section):
    """Everything acts on the stars alone: they are taken off the channels and put back."""

    title = "Stars"

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        s = self.session
        self.source = ChoiceBinding(
            s,
            "from",
            "stars.source",
            _SOURCES,
            "Which stars are put back on the starless picture: those of red, green and blue in\n"
            "their natural colours, those of the lines with gains of their own, or none.\n"
            "Left in the channels they take the colours of the palette.",
        )
        default = StarSettings()
        self.values = [
            ValueBinding(s, name, f"stars.{key}", 0.0, high, getattr(default, key), tip)
            for name, key, high, tip in (
                ("brightness", "brightness", 2.0, "0 shows none, 1 leaves them as they are."),
                ("size", "size", 1.0, "1 leaves them as they are, less makes them smaller."),
                ("saturation", "saturation", 2.0, "0 makes them white, 1 keeps their colours."),
                (
                    "limit tints",
                    "limit",
                    1.0,
                    "Holds stars between green and magenta, which no star is.",
                ),
            )
        ]
        self.join = ChoiceBinding(
            s,
            "put back",
            "stars.join",
            (("add", "as light"), ("screen", "as two films")),
            "As light: the light of stars and nebula is added.\n"
            "As two films: each holds the other back where both are bright.",
        )
        self.words = label("", "muted", wrap=True)
        self.add_all(self.source, *self.values, self.join, self.words)

    def state_line(self) -> str:
        recipe, settings = self.snapshot.recipe, self.session.state.blend.stars
        if recipe is None:
            return ""
        if settings.source == "kept":
            return "left in the channels"
        if kept_stars(recipe):
            pending = self.snapshot.layers.pending or self.session.layers.snapshot.pending
            return f"splitting {pending[0]}" if pending else "still in"
        found = recipe.star_set()
        if found is None or not puts_stars_back(recipe):
            return "none"
        return f"{_WORDS[found.source]}, size {settings.size:.2f}"

    def show_recipe(self) -> None:
        super().show_recipe()
        recipe = self.snapshot.recipe
        can = sources_of(set(self.snapshot.channels.names))
        self.source.only(["auto", *can, "none", "kept"])
        put = recipe is not None and puts_stars_back(recipe)
        for binding in (*self.values, self.join):
            binding.setEnabled(put)
        self.words.setText(self._explain())
        self.words.setVisible(bool(self.words.text()))

    def _explain(self) -> str:
        recipe, layers = self.snapshot.recipe, self.session.layers.snapshot
        if recipe is None or self.session.state.blend.stars.source == "kept":
            return ""
        if layers.failed:
            return " ".join(layers.failed.values())
        if kept_stars(recipe):
            return "The stars are still in their channels: they are being split off."
        found = recipe.star_set()
        if found is not None and found.source == "lines":
            return "Stars of the lines, balanced so that the middle one is white."
        return ""

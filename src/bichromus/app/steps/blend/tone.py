"""The curve and the colour steps: sections of plain sliders."""

from __future__ import annotations

from ....core.blend.inputs import kept_stars
from ....core.model.settings import Colour, Stretch
from ..step import StepContext
from .bindings import ValueBinding
from .section import Section


class SliderSection(Section):
    """A section of sliders of one group, whose line counts what differs from the default."""

    group = ""
    default: Stretch | Colour
    rows: tuple[tuple[str, str, float, float, str, float], ...] = ()

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.bindings = {
            key: ValueBinding(
                self.session,
                name,
                f"{self.group}.{key}",
                low,
                high,
                getattr(self.default, key),
                tip,
                step,
            )
            for name, key, low, high, tip, step in self.rows
        }
        self.add_all(*self.bindings.values())

    def state_line(self) -> str:
        now = getattr(self.session.state.blend, self.group)
        changed = sum(getattr(now, k) != getattr(self.default, k) for k in self.bindings)
        return f"{changed} changed" if changed else "as it comes"


class ToneSection(SliderSection):
    """The curve."""

    title = "Tone"
    group = "stretch"
    default = Stretch()
    rows = (
        (
            "background",
            "background",
            0.02,
            0.30,
            "Where the empty sky lands: 0 is black, 1 is white.",
            0.005,
        ),
        ("signal", "signal", 0.36, 0.80, "Where a typical part of the nebula lands.", 0.01),
        (
            "strength",
            "strength",
            1.0,
            16.0,
            "How much faint light is lifted against bright light.",
            0.1,
        ),
        (
            "shoulder",
            "shoulder",
            0.45,
            0.95,
            "From here on bright light is held back, so that cores keep detail.",
            0.01,
        ),
    )


class ColourSection(SliderSection):
    """The colour steps."""

    title = "Colour"
    group = "colour"
    default = Colour()
    rows = (
        (
            "limit green",
            "limit_green",
            0.0,
            1.0,
            "Takes green off that nothing in the sky has; lightness stays.",
            0.01,
        ),
        (
            "limit magenta",
            "limit_magenta",
            0.0,
            1.0,
            "Takes magenta off, as it comes around stars; lightness stays.",
            0.01,
        ),
        (
            "saturation",
            "saturation",
            0.0,
            2.5,
            "Colour of the nebula; the noise of the sky is spared.",
            0.01,
        ),
        (
            "star colour",
            "star_colour",
            0.0,
            1.0,
            "Of stars that are left in the channels: 0 leaves them white, 1 as they are blended.",
            0.01,
        ),
    )

    def show_recipe(self) -> None:
        super().show_recipe()
        recipe = self.snapshot.recipe
        self.bindings["star_colour"].setVisible(recipe is not None and kept_stars(recipe))

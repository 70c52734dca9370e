"""The curve and the colour steps: sections of plain sliders."""

from __future__ import annotations

from ....core.blend.inputs import kept_stars
from ....core.model.settings import Colour, Stretch, ToneSettings
from ...widgets.curve import CurveEditor
from ..step import StepContext
from .bindings import ChoiceBinding, ValueBinding
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


class FullToneSection(ToneSection):
    """The curve from linear light, a curve through points, and bright cores."""

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        s = self.session
        self.kind = ChoiceBinding(
            s,
            "stretch",
            "stretch.kind",
            (
                ("asinh", "asinh"),
                ("rational", "rational, exact black"),
                ("bias", "bias"),
                ("power", "power"),
            ),
            "Asinh lifts faint light most evenly; rational has its black at a chosen distance\n"
            "below the sky; bias and power are plainer curves to the same two marks.",
        )
        self.black = ValueBinding(
            s,
            "black at",
            "stretch.black",
            1.0,
            10.0,
            Stretch().black,
            "Black lies so many sigma of the noise below the sky.",
            0.1,
            lambda v: f"{v:.1f} σ",
        )
        self.common = ValueBinding(
            s,
            "one for all",
            "stretch.common",
            0.0,
            0.5,
            0.0,
            "How much all channels share one factor: more keeps the hues of bright parts.",
        )
        self.curve = CurveEditor()
        self.curve.moved.connect(lambda p: s.blend.show_settings(tone={"points": p}))
        self.curve.settled.connect(
            lambda p: s.blend.set_settings("curve of lightness", tone={"points": p})
        )
        self.cores = ValueBinding(
            s,
            "open cores",
            "tone.cores",
            0.0,
            0.6,
            0.0,
            "Presses the glow of bright cores down and leaves their detail.",
        )
        self.cores_px = ValueBinding(
            s,
            "their size",
            "tone.cores_px",
            6.0,
            120.0,
            ToneSettings().cores_px,
            "The size of the glow that is pressed down, in pixels.",
            1.0,
            lambda v: f"{v:.0f} px",
        )
        self.body.insertWidget(0, self.kind)
        self.add_all(self.black, self.common, self.curve, self.cores, self.cores_px)

    def state_line(self) -> str:
        found = self.session.state.blend
        base = super().state_line()
        parts: list[str] = [found.stretch.kind] if found.stretch.kind != "asinh" else []
        parts += [base] if base != "as it comes" else []
        parts += ["curve"] if found.tone.points else []
        parts += ["cores open"] if found.tone.cores else []
        return ", ".join(parts) or base

    def show_state(self) -> None:
        super().show_state()
        found = self.session.state.blend
        self.curve.show_points(found.tone.points)
        asinh = found.stretch.kind == "asinh"
        self.bindings["strength"].setVisible(asinh)
        self.bindings["shoulder"].setVisible(found.stretch.kind in ("asinh", "rational"))
        self.black.setVisible(found.stretch.kind == "rational")
        self.cores_px.setVisible(found.tone.cores > 0)


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

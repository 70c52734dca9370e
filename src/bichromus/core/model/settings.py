"""The taste in a blend: every parameter that a person may set, in groups."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal

from pydantic import Field, model_validator

from .channel import CHANNELS
from .mask import Frozen, Mask

OUTPUTS = ("R", "G", "B")
MOST_WEIGHT = 2.0
Share = Annotated[float, Field(ge=0, le=1)]
Weight = Annotated[float, Field(ge=-MOST_WEIGHT, le=MOST_WEIGHT)]
Amount = Annotated[float, Field(ge=0, le=2)]
Rectangle = tuple[int, int, int, int]
"""x0, y0, x1, y1 in pixels of the grid, half-open."""


class Stretch(Frozen):
    """The curve: the background lands at ``background``, the signal at ``signal`` (encoded, 0 to
    1).

    ``kind`` is its shape, ``strength`` rho of the asinh curve, ``black`` at how many sigma below
    the sky the rational one is black, ``shoulder`` where bright cores begin to be held back.
    ``common`` is the share of one factor for all channels, which keeps hues in bright parts.
    """

    kind: Literal["asinh", "rational", "bias", "power"] = "asinh"
    background: Annotated[float, Field(ge=0.02, le=0.35)] = 0.12
    signal: Annotated[float, Field(ge=0.25, le=0.85)] = 0.50
    strength: Annotated[float, Field(ge=0.5, le=30)] = 4.0
    black: Annotated[float, Field(ge=1, le=10)] = 4.0
    shoulder: Annotated[float, Field(ge=0.4, le=0.95)] = 0.70
    common: Annotated[float, Field(ge=0, le=0.5)] = 0.0

    @model_validator(mode="after")
    def _ordered(self) -> Stretch:
        if self.signal <= self.background + 0.05:
            raise ValueError("signal must lie above background by more than 0.05")
        return self


Point = tuple[Share, Share]


class ToneSettings(Frozen):
    """What is done to the lightness of the picture: a curve through ``points`` (in, out), and the
    contrast of bright ``cores`` at a size of ``cores_px``, which opens what the shoulder closed.
    """

    points: tuple[Point, ...] = ()
    cores: Annotated[float, Field(ge=0, le=0.6)] = 0.0
    cores_px: Annotated[float, Field(ge=6, le=120)] = 24.0

    @model_validator(mode="after")
    def _rising(self) -> ToneSettings:
        ends = ((0.0, 0.0), *self.points, (1.0, 1.0))
        if any(b[0] <= a[0] or b[1] < a[1] for a, b in pairwise(ends)):
            raise ValueError("points of the curve must rise")
        return self


class Colour(Frozen):
    """Amounts of the colour steps: limits 0 to 1, saturation as a factor; star_colour 0 (white) to
    1 (as blended) counts for stars that were left in the channels.
    """

    limit_green: Share = 0.7
    limit_magenta: Share = 0.0
    saturation: Annotated[float, Field(ge=0, le=3)] = 1.0
    star_colour: Share = 0.15


class Limits(Frozen):
    """Background noise that the automatic balance allows (Oklab): per pixel, and for colour after a
    4 px blur.
    """

    lightness: Annotated[float, Field(gt=0, le=1)] = 0.025
    chroma: Annotated[float, Field(gt=0, le=1)] = 0.030
    blotch: Annotated[float, Field(gt=0, le=1)] = 0.006


class White(Frozen):
    """What is white in the broadband group: the middle one of the field's stars, the mean of a
    ``region``, or typed ``gains`` of R, G and B. ``field_hue``: the middle star keeps the warm hue
    that field stars have.
    """

    by: Literal["stars", "region", "typed"] = "stars"
    field_hue: bool = False
    region: Rectangle | None = None
    gains: tuple[float, float, float] = (1.0, 1.0, 1.0)

    @model_validator(mode="after")
    def _usable(self) -> White:
        if min(self.gains) <= 0:
            raise ValueError("gains of the white must be above 0")
        if self.by == "region" and self.region is None:
            raise ValueError("a white by region needs its region")
        return self


class StarSettings(Frozen):
    """The stars put back on the starless picture. ``source``: auto takes the set from R, G and B
    where there is one, else that from the lines; kept leaves the stars in the channels. ``size``
    1 leaves them as they are, less makes them smaller; ``limit`` holds magenta and green stars.
    """

    source: Literal["auto", "rgb", "lines", "none", "kept"] = "auto"
    brightness: Amount = 1.0
    size: Share = 0.7
    saturation: Amount = 1.0
    limit: Share = 1.0
    join: Literal["add", "screen"] = "add"


class LuminanceSettings(Frozen):
    """The lightness of the picture: that of the mix, a measured or filtered luminance, Ha where it
    is brighter, or one of all channels weighted by SNR. ``chroma`` says how far colour follows.
    """

    source: Literal["none", "L", "C", "Ha", "synthetic"] = "none"
    amount: Share = 1.0
    chroma: Share = 1.0


class LiftSettings(Frozen):
    """Lines on a broadband picture: how much of each, into its colours, as lightness, or both, and
    whether the light of the stars and of the galaxy in the line's filter is taken off before.
    """

    amount: dict[str, Amount] = Field(default_factory=dict)
    by: Literal["red", "lift", "both"] = "red"
    continuum: bool = True

    def of(self, line: str) -> float:
        """The amount of a line: 1 where nobody has said otherwise."""
        return self.amount.get(line, 1.0)


class CleanSettings(Frozen):
    """How much of a channel's noise is taken off where it is raised: just enough for the limits, or
    an ``amount``.
    """

    auto: bool = True
    amount: Share = 0.5


class Finish(Frozen):
    """How the picture is presented: ``crop`` of the grid (half-open), then ``flip``, then ``turn``
    clockwise in degrees; ``trim`` cuts the corners that a free turn leaves empty. The channels are
    untouched.
    """

    crop: Rectangle | None = None
    flip: Literal["", "horizontal", "vertical", "both"] = ""
    turn: Annotated[float, Field(ge=-360, le=360)] = 0.0
    trim: bool = True

    @model_validator(mode="after")
    def _usable(self) -> Finish:
        if self.crop is not None and (self.crop[2] <= self.crop[0] or self.crop[3] <= self.crop[1]):
            raise ValueError("a crop must have an inside")
        return self


class BlendSettings(Frozen):
    """The taste in a blend. ``mix`` is what each output takes of each channel; a named mapping
    fills it, and ``lifted``, the lines that lie on top of the mix. With ``green_auto`` loudness
    shares the green, and ``green_share`` is what came out.
    """

    mapping: str = "hubble-order"
    mix: dict[Literal["R", "G", "B"], dict[str, Weight]] = Field(default_factory=dict)
    lifted: tuple[str, ...] = ()
    green_auto: bool = True
    green_share: Share = 0.5
    hue_spread: Share = 0.5
    balance: Share = 0.0
    balance_auto: bool = True
    limits: Limits = Limits()
    white: White = White()
    cleaning: CleanSettings = CleanSettings()
    lift: LiftSettings = LiftSettings()
    luminance: LuminanceSettings = LuminanceSettings()
    stretch: Stretch = Stretch()
    colour: Colour = Colour()
    tone: ToneSettings = ToneSettings()
    masks: tuple[Mask, ...] = ()
    stars: StarSettings = StarSettings()
    finish: Finish = Finish()

    @model_validator(mode="after")
    def _known(self) -> BlendSettings:
        for row in (*self.mix.values(), self.lift.amount, self.lifted):
            unknown = set(row) - set(CHANNELS)
            if unknown:
                raise ValueError(f"unknown channel {', '.join(sorted(unknown))} in the mix")
        return self

    def same_figures(self, other: BlendSettings) -> bool:
        """Whether what is measured for these settings is the same as for the others."""
        mine, theirs = (
            (s.white, s.lift.continuum, s.stars.source, s.cleaning) for s in (self, other)
        )
        return mine == theirs

    def mixed(self) -> tuple[str, ...]:
        """Channels that the mix takes anything of, in the usual order."""
        return tuple(n for n in CHANNELS if any(row.get(n) for row in self.mix.values()))

    def on_top(self) -> tuple[str, ...]:
        """Lines that are lifted on the mix with an amount above 0."""
        return tuple(n for n in self.lifted if self.lift.of(n) > 0)

    def active_masks(self) -> tuple[Mask, ...]:
        """Masks that are switched on and do something."""
        return tuple(m for m in self.masks if m.on and m.acts())

    def used(self) -> tuple[str, ...]:
        """Channels that the picture takes anything of, in the usual order; a synthetic luminance
        takes those of the mix.
        """
        measured = self.luminance.source if self.luminance.amount > 0 else "none"
        names = {*self.mixed(), *self.on_top(), *({measured} & set(CHANNELS))}
        return tuple(n for n in CHANNELS if n in names)

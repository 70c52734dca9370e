"""A mask: a part of the picture told by level, light, hue or a drawing, and what is done to it."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from .channel import CHANNELS


class Frozen(BaseModel):
    """A frozen value that refuses what it does not know."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Range(Frozen):
    """From ``low`` to ``high`` (None: without end), with edges ``soft`` wide."""

    low: float = 0.0
    high: float | None = None
    soft: Annotated[float, Field(ge=0)] = 0.1

    @model_validator(mode="after")
    def _ordered(self) -> Range:
        if self.high is not None and self.high < self.low:
            raise ValueError("a range must end above its beginning")
        return self


class Stroke(Frozen):
    """A disc drawn into an area, or taken out of it, in pixels of the grid."""

    x: float
    y: float
    radius: Annotated[float, Field(gt=0)]
    add: bool = True


class Mask(Frozen):
    """A part of the picture, and what is done to it.

    Where: ``level`` of ``channel`` in sigma above the sky, ``light`` of the picture (Oklab),
    ``hue`` (degrees, half width, softness), an ``area`` drawn with edges ``feather`` px wide; all
    that are given together. ``invert`` takes the rest. What: gain of ``lightness`` about the
    sky's, of ``chroma``, a ``turn`` of hue (degrees), ``gain`` of ``gain_of`` before the mix,
    ``contrast`` at a size of ``contrast_px``.
    """

    on: bool = True
    channel: str = ""
    level: Range | None = None
    light: Range | None = None
    hue: tuple[float, float, float] | None = None
    area: tuple[Stroke, ...] = ()
    feather: Annotated[float, Field(ge=0, le=200)] = 8.0
    invert: bool = False
    lightness: Annotated[float, Field(ge=-1, le=1)] = 0.0
    chroma: Annotated[float, Field(ge=-1, le=2)] = 0.0
    turn: Annotated[float, Field(ge=-40, le=40)] = 0.0
    gain_of: str = ""
    gain: Annotated[float, Field(ge=0, le=4)] = 1.0
    contrast: Annotated[float, Field(ge=-1, le=2)] = 0.0
    contrast_px: Annotated[float, Field(ge=2, le=60)] = 8.0

    @model_validator(mode="after")
    def _known(self) -> Mask:
        for name in (self.channel, self.gain_of):
            if name and name not in CHANNELS:
                raise ValueError(f"unknown channel {name} in a mask")
        if self.level is not None and not self.channel:
            raise ValueError("a mask by level needs its channel")
        return self

    def acts_on_colour(self) -> bool:
        """Whether it changes the mixed picture."""
        return bool(self.lightness or self.chroma or self.turn or self.contrast)

    def acts(self) -> bool:
        """Whether it changes anything."""
        return self.acts_on_colour() or bool(self.gain_of and self.gain != 1.0)

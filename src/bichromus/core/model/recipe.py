"""A blend written down: every parameter of it, and the channels that it was made for."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from .channel import CHANNELS
from .errors import InputError, UnreadableFile

OUTPUTS = ("R", "G", "B")
SCHEMA_VERSION = 1
Share = Annotated[float, Field(ge=0, le=1)]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Stretch(_Frozen):
    """The curve: the background lands at ``background``, the signal at ``signal`` (encoded, 0 to
    1).

    ``strength`` is rho of the asinh curve, ``shoulder`` where bright cores begin to be held back.
    """

    background: Annotated[float, Field(ge=0.02, le=0.35)] = 0.12
    signal: Annotated[float, Field(ge=0.25, le=0.85)] = 0.50
    strength: Annotated[float, Field(ge=0.5, le=30)] = 4.0
    shoulder: Annotated[float, Field(ge=0.4, le=0.95)] = 0.70

    @model_validator(mode="after")
    def _ordered(self) -> Stretch:
        if self.signal <= self.background + 0.05:
            raise ValueError("signal must lie above background by more than 0.05")
        return self


class Colour(_Frozen):
    """Amounts of the colour steps: limits 0 to 1, saturation as a factor, star_colour 0 (white) to
    1 (as blended).
    """

    limit_green: Share = 0.7
    limit_magenta: Share = 0.0
    saturation: Annotated[float, Field(ge=0, le=3)] = 1.0
    star_colour: Share = 0.15


class Limits(_Frozen):
    """Background noise that the automatic balance allows (Oklab): per pixel, and for colour after a
    4 px blur.
    """

    lightness: Annotated[float, Field(gt=0, le=1)] = 0.025
    chroma: Annotated[float, Field(gt=0, le=1)] = 0.030
    blotch: Annotated[float, Field(gt=0, le=1)] = 0.006


class BlendSettings(_Frozen):
    """The taste in a blend. ``mix`` is what each output takes of each channel; a named mapping
    fills it.
    """

    mapping: str = "hubble-order"
    mix: dict[Literal["R", "G", "B"], dict[str, Annotated[float, Field(ge=-2, le=2)]]] = Field(
        default_factory=dict
    )
    green_share: Share = 0.60
    hue_spread: Share = 0.5
    balance: Share = 0.0
    balance_auto: bool = True
    limits: Limits = Limits()
    stretch: Stretch = Stretch()
    colour: Colour = Colour()

    @model_validator(mode="after")
    def _known(self) -> BlendSettings:
        for row in self.mix.values():
            unknown = set(row) - set(CHANNELS)
            if unknown:
                raise ValueError(f"unknown channel {', '.join(sorted(unknown))} in the mix")
        return self

    def used(self) -> tuple[str, ...]:
        """Channels that the mix takes anything of, in the usual order."""
        return tuple(n for n in CHANNELS if any(row.get(n) for row in self.mix.values()))


class ChannelFigures(_Frozen):
    """What the blend needs to know of a prepared channel, in the channel's own units.

    ``background`` is a, bx, by of the plane taken off; ``signal`` the median over the channel's own
    region (0 where nothing stands out), ``white`` the 99.99th percentile above the background.
    """

    hash: str = ""
    file: str = ""
    shape: tuple[int, int]
    background: tuple[float, float, float] = (0.0, 0.0, 0.0)
    signal: float
    sigma_px: Annotated[float, Field(gt=0)]
    sigma_eff: float | None = None
    white: float | None = None
    snr: float | None = None
    hours: float | None = None


class Recipe(_Frozen):
    """Settings, the channels that they were made for, and the balance that came out."""

    format: Literal["bichromus-recipe"] = "bichromus-recipe"
    version: Literal[1] = 1
    settings: BlendSettings
    channels: dict[str, ChannelFigures]
    made_by: str = ""

    def dump(self) -> str:
        """The recipe as JSON, as it is written beside a picture."""
        return json.dumps(self.model_dump(), indent=2, ensure_ascii=False) + "\n"


def load_recipe(path: Path) -> Recipe:
    """Read a recipe. Raises UnreadableFile or InputError with the field that does not fit."""
    try:
        raw = json.loads(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError, ValueError) as error:
        why = getattr(error, "strerror", None) or "it is not JSON"
        raise UnreadableFile(
            "The recipe cannot be read",
            why=why,
            do="Give a recipe saved by this program",
            file=path,
        ) from error
    if (
        isinstance(raw, dict)
        and isinstance(raw.get("version"), int)
        and raw["version"] > SCHEMA_VERSION
    ):
        raise InputError(
            "The recipe comes from a newer version",
            why=f"schema {raw['version']}",
            do="Update the program, or save the recipe from the older one",
            file=path,
        )
    try:
        return Recipe.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(map(str, first["loc"])) or "the whole"
        raise InputError(
            "The recipe does not fit",
            why=f"{place}: {first['msg']}",
            do="Correct this entry",
            file=path,
        ) from error


def schema() -> dict[str, object]:
    """The published JSON schema of a recipe."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Recipe.model_json_schema()}

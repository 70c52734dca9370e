"""A blend written down: every parameter of it, and the channels that it was made for."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Final, Literal

from pydantic import Field, ValidationError

from .errors import InputError, UnreadableFile
from .json_text import parse_json
from .mask import Frozen
from .settings import BlendSettings
from .text_file import read_text

SCHEMA_VERSION: Final = 2
RECORD: Final = "bichromus-record"
"""What a process record calls itself."""


Covariance = tuple[float, float, float, float, float]
"""Of what can be taken off a channel, in units of its noise variance: the fine part with itself,
the coarse with itself, fine with the channel, coarse with the channel, fine with coarse.
"""


def share_left(covariance: Covariance, fine: float, coarse: float) -> float:
    """Noise left where so much of the fine and coarse parts is taken off, as a share."""
    ff, cc, fx, cx, fc = covariance
    variance = 1 + fine**2 * ff + coarse**2 * cc - 2 * fine * fx - 2 * coarse * cx
    return max(variance + 2 * fine * coarse * fc, 0.0) ** 0.5


class ChannelFigures(Frozen):
    """What the blend needs to know of a prepared channel, in the channel's own units.

    ``background`` is a, bx, by of the plane taken off; ``signal`` the median over the channel's own
    region (0 where nothing stands out), ``white`` the 99.99th percentile above the background;
    ``starless``: its stars were split off.
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
    starless: bool = False

    @property
    def sigma_large(self) -> float:
        """Noise as it looks on large scales: sigma_eff where it is known, else sigma_px."""
        return self.sigma_eff or self.sigma_px


class WhiteFigures(Frozen):
    """Gains of R, G and B (green 1) that make the white of the field white, told from ``stars``
    stars with a relative ``error``; no stars where a region or the person told it.
    """

    gains: tuple[float, float, float] = (1.0, 1.0, 1.0)
    stars: int = 0
    error: float | None = None


class StarFigures(Frozen):
    """A set of stars: what it was taken from, the ``level`` of its bright stars, that of the
    brightest (``top``) and the noise of its sky, in units of its balanced planes.
    """

    source: Literal["rgb", "lines"]
    level: Annotated[float, Field(gt=0)]
    top: Annotated[float, Field(gt=0)]
    sigma: float = 0.0
    made_of: tuple[str, ...] = ()


class LiftFigures(Frozen):
    """A line on a broadband picture: ``broad`` tells its continuum, ``k`` of it lies in the line,
    from ``stars`` stars; ``knots`` is the 75th percentile of the line alone where it stands out.
    """

    broad: str
    k: float = 0.0
    stars: int = 0
    knots: float = 0.0


class CleanFigures(Frozen):
    """What can be taken off a channel's noise: covariances in units of its own, per ``pixel`` and
    ``blurred`` by 4 px; ``guide`` is the channel that helped to find it.
    """

    pixel: Covariance
    blurred: Covariance
    guide: str = ""

    def left(self, fine: float, coarse: float) -> tuple[float, float]:
        """Noise left at these amounts, per pixel and after a 4 px blur, as shares."""
        return share_left(self.pixel, fine, coarse), share_left(self.blurred, fine, coarse)


class Cleaned(Frozen):
    """How much of the fine and coarse noise is taken off a channel, and the noise left per pixel
    and after a 4 px blur, as shares of its own.
    """

    fine: float = 0.0
    coarse: float = 0.0
    left_px: float = 1.0
    left_4px: float = 1.0


class BlendFigures(Frozen):
    """All that was measured for a blend: the channels, the white of the broadband group, the share
    of green by loudness, sets of stars by their source, and the lines on top.
    """

    channels: dict[str, ChannelFigures]
    white: WhiteFigures = WhiteFigures()
    green: float | None = None
    stars: dict[str, StarFigures] = Field(default_factory=dict)
    lifts: dict[str, LiftFigures] = Field(default_factory=dict)
    cleaning: dict[str, CleanFigures] = Field(default_factory=dict)


class Recipe(Frozen):
    """Settings, what was measured for them, and the balance that came out."""

    format: Literal["bichromus-recipe"] = "bichromus-recipe"
    version: Literal[2] = 2
    settings: BlendSettings
    figures: BlendFigures
    cleaned: dict[str, Cleaned] = Field(default_factory=dict)
    made_by: str = ""

    @property
    def channels(self) -> dict[str, ChannelFigures]:
        """Figures of the channels by name."""
        return self.figures.channels

    def noise(self, name: str) -> tuple[float, float]:
        """A channel's noise as it is blended, per pixel and on large scales, in its own units."""
        figures, cleaned = self.channels[name], self.cleaned.get(name, Cleaned())
        return figures.sigma_px * cleaned.left_px, figures.sigma_large * cleaned.left_4px

    def star_set(self) -> StarFigures | None:
        """The stars that are put back; None where none are, or where they were never taken off."""
        source = self.settings.stars.source
        found = self.figures.stars
        if source == "auto":
            return found.get("rgb") or found.get("lines")
        return found.get(source)

    def used(self) -> set[str]:
        """Channels that the picture is made of, those of its stars among them."""
        stars = self.star_set()
        wanted = {*self.settings.used(), *(stars.made_of if stars is not None else ())}
        return wanted & set(self.channels)

    def dump(self) -> str:
        """The recipe as JSON, as it is written beside a picture."""
        return json.dumps(self.model_dump(), indent=2, ensure_ascii=False) + "\n"


def load_recipe(path: Path) -> Recipe:
    """Read a recipe of this version or an older one. Raises UnreadableFile or InputError with the
    field that does not fit.
    """
    try:
        text = read_text(path)
    except (OSError, UnicodeDecodeError) as error:
        raise _unreadable(error, path) from error
    return recipe_of(text, path)


def _unreadable(error: Exception, path: Path) -> UnreadableFile:
    return UnreadableFile(
        "The recipe cannot be read",
        why=getattr(error, "strerror", None) or "it is not JSON",
        do="Give a recipe saved by this program",
        file=path,
    )


def recipe_of(text: str, path: Path) -> Recipe:
    """The recipe that a file's text holds. Raises as ``load_recipe``."""
    try:
        raw = parse_json(text)
    except ValueError as error:
        raise _unreadable(error, path) from error
    if isinstance(raw, dict) and raw.get("format") == RECORD and "recipe" in raw:
        raw = raw["recipe"]  # a process record holds the recipe that it tells of
    version = raw.get("version") if isinstance(raw, dict) else None
    if isinstance(version, int) and version > SCHEMA_VERSION:
        raise InputError(
            "The recipe comes from a newer version",
            why=f"schema {version}",
            do="Update the program, or save the recipe from the older one",
            file=path,
        )
    try:
        return Recipe.model_validate(_OLDER.get(version, _same)(raw))
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(map(str, first["loc"])) or "the whole"
        raise InputError(
            "The recipe does not fit",
            why=f"{place}: {first['msg']}",
            do="Correct this entry",
            file=path,
        ) from error


def from_version_1(raw: dict[str, Any]) -> dict[str, Any]:
    """A recipe of version 1 in the form of version 2: its green was always shared by a number, and
    its stars stayed in the channels.
    """
    settings = raw.get("settings")
    channels = raw.get("channels")
    rest = {k: v for k, v in raw.items() if k not in ("settings", "channels", "version")}
    if not isinstance(settings, dict):
        return raw
    return {
        **rest,
        "version": 2,
        "settings": settings_from_version_1(settings),
        "figures": {"channels": channels},
    }


def settings_from_version_1(settings: dict[str, Any]) -> dict[str, Any]:
    """Settings of version 1 in the form of version 2."""
    older = {"green_share": 0.60, **settings}
    untouched = {"auto": False, "amount": 0.0}
    return {"green_auto": False, "stars": {"source": "kept"}, "cleaning": untouched, **older}


def _same(raw: Any) -> Any:
    return raw


_OLDER: Final[dict[object, Callable[[Any], Any]]] = {1: from_version_1}


def schema() -> dict[str, object]:
    """The published JSON schema of a recipe."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Recipe.model_json_schema()}

"""What the blend reads at every pixel, by key."""

from __future__ import annotations

from collections.abc import Collection
from typing import Final, Literal, NamedTuple

from ..model.channel import COLOURS
from ..model.errors import UnknownName
from ..model.recipe import Recipe
from ..model.settings import BlendSettings, ToneSettings
from .mappings import MAPPINGS, lifted_lines, mapping_mix

Kind = Literal[
    "channel",
    "fine",
    "coarse",
    "star",
    "glow",
    "discs",
    "lift",
    "green",
    "level",
    "area",
    "base",
    "soft",
]


class Key(NamedTuple):
    """A plane of the blend: a channel, the fine and coarse noise that is taken off it, a star plane
    (R, G or B), or a companion: the glow, discs over the stars, where a line is lifted, the share
    of green, a channel's level in sigma, an area drawn. ``base`` is the smoothed picture in Oklab
    (3, ...) as masks see it, ``soft`` its lightness blurred by so many px.
    """

    kind: Kind
    name: str = ""


BROAD: Final = {
    "Ha": ("R", "L", "C"),
    "S2": ("R", "L", "C"),
    "O3": ("G", "L", "C"),
    "Hb": ("B", "L", "C"),
}
"""Broadband channels that tell a line's continuum, the best first: those that hold its colour."""
READ: Final = ("channel", "fine", "coarse", "star")
"""Kinds of planes that are read as they were prepared; all others are companions."""
GLOW = Key("glow")
DISCS = Key("discs")
GREEN = Key("green")
SEEN: Final = ("base", "soft")
"""Kinds that are made of the picture itself, through the same view."""
BASE = Key("base")
STARS = tuple(Key("star", c) for c in COLOURS)


def inputs_of(recipe: Recipe) -> tuple[Key, ...]:
    """Every plane that a recipe needs, channels first. Pixels of no other plane matter to it."""
    settings = recipe.settings
    keys = [Key("channel", n) for n in channels_of(recipe)]
    for name in cleaned_names(recipe):
        keys += [Key("fine", name), Key("coarse", name)]
    keys += [Key("lift", n) for n in lines_on_top(recipe)]
    if green_by_loudness(recipe):
        keys.append(GREEN)
    luminance = settings.luminance.source != "none" and settings.luminance.amount > 0
    if settings.colour.saturation != 1.0 or luminance:
        keys.append(GLOW)
    if kept_stars(recipe) and settings.colour.star_colour != 1.0:
        keys.append(DISCS)
    keys += _of_masks(recipe)
    if puts_stars_back(recipe):
        keys += STARS
    return tuple(dict.fromkeys(keys))


def _of_masks(recipe: Recipe) -> list[Key]:
    """Planes that masks and open cores are told by."""
    keys = []
    for index, mask in enumerate(recipe.settings.active_masks()):
        if mask.level is not None and mask.channel in recipe.channels:
            keys.append(Key("level", mask.channel))
        if mask.light is not None or mask.hue is not None:
            keys.append(BASE)
        if mask.area:
            keys.append(Key("area", str(index)))
        if mask.contrast:
            keys.append(soft_key(mask.contrast_px))
    if recipe.settings.tone.cores > 0:
        keys.append(soft_key(recipe.settings.tone.cores_px))
    return keys


def soft_key(px: float) -> Key:
    """The picture's lightness blurred by so many pixels."""
    return Key("soft", f"{px:g}")


def base_of(recipe: Recipe) -> Recipe:
    """The picture that masks and open cores are told by: without them, without stars."""
    settings = recipe.settings
    bare = settings.model_copy(
        update={
            "masks": (),
            "tone": ToneSettings(),
            "stars": settings.stars.model_copy(update={"brightness": 0.0}),
        }
    )
    return recipe.model_copy(update={"settings": bare})


def cleaned_names(recipe: Recipe) -> tuple[str, ...]:
    """Channels that noise is taken off."""
    return tuple(n for n in channels_of(recipe) if n in recipe.cleaned)


def channels_of(recipe: Recipe) -> tuple[str, ...]:
    """Channels whose pixels are read: those of the mix, the luminance, lines on top and what tells
    their continuum.
    """
    more = {recipe.figures.lifts[n].broad for n in lines_on_top(recipe)}
    used = {*recipe.settings.used(), *more}
    return tuple(n for n in recipe.channels if n in used)


def channels_needed(settings: BlendSettings, channels: Collection[str]) -> tuple[str, ...]:
    """Channels that a picture of these settings reads, before its recipe is made; all of them where
    its mapping does not fit.
    """
    try:
        mix = mapping_mix(settings, channels)
    except UnknownName:
        return tuple(channels)
    lifted = lifted_lines(settings.mapping, channels)
    filled = settings.model_copy(update={"mix": mix, "lifted": lifted})
    more = {next((b for b in BROAD[n] if b in channels), n) for n in filled.on_top()}
    return tuple(n for n in channels if n in {*filled.used(), *more})


def lines_on_top(recipe: Recipe) -> tuple[str, ...]:
    """Lines that are lifted on the mix, and stand out there."""
    lifts = recipe.figures.lifts
    return tuple(n for n in recipe.settings.on_top() if n in lifts and lifts[n].knots > 0)


def green_by_loudness(recipe: Recipe) -> bool:
    """Whether the green is shared by a map and not by a number."""
    known = MAPPINGS.get(recipe.settings.mapping)
    return recipe.settings.green_auto and known is not None and "green_share" in known.controls


def kept_stars(recipe: Recipe) -> bool:
    """Whether stars are in the channels that the picture is made of."""
    return any(
        not recipe.channels[n].starless for n in recipe.settings.used() if n in recipe.channels
    )


def puts_stars_back(recipe: Recipe) -> bool:
    """Whether the picture gets its stars from a set of them."""
    settings = recipe.settings.stars
    return recipe.star_set() is not None and settings.brightness > 0 and not kept_stars(recipe)

"""What differs between two recipes, in words: from the first to the second."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, Final

from ..model.channel import channel_order
from ..model.recipe import Recipe
from ..model.settings import BlendSettings
from .mappings import mapping_words
from .mask_words import mask_words

_HOURS: Final = 0.05  # of data, from which a channel has more or less of it
_SHARE: Final = 0.005  # of a share, from which it is another: it is told to two digits

STAR_WORDS: Final = {
    "auto": "stars as the channels allow",
    "rgb": "stars from RGB",
    "lines": "stars from the lines",
    "none": "without stars",
    "kept": "stars left in the channels",
}
LUMINANCE_WORDS: Final = {
    "none": "lightness of the mix",
    "L": "lightness from L",
    "C": "lightness from C",
    "Ha": "lightness from Ha",
    "synthetic": "lightness from all channels",
}
_WORDS: Final = {
    ("balance",): "balance",
    ("hue_spread",): "spread of hues",
    ("stars", "brightness"): "brightness of the stars",
    ("stars", "size"): "size of the stars",
    ("stars", "saturation"): "colour of the stars",
    ("stars", "limit"): "limit of magenta and green stars",
    ("luminance", "amount"): "share of its lightness",
    ("luminance", "chroma"): "how far colour follows",
    ("stretch", "background"): "brightness of the sky",
    ("stretch", "signal"): "brightness of the nebula",
    ("stretch", "strength"): "strength of the stretch",
    ("stretch", "black"): "black point",
    ("stretch", "shoulder"): "shoulder",
    ("stretch", "common"): "one curve for all channels",
    ("stretch", "kind"): "stretch",
    ("colour", "saturation"): "saturation",
    ("colour", "limit_green"): "limit of green",
    ("colour", "limit_magenta"): "limit of magenta",
    ("colour", "star_colour"): "colour of stars in the channels",
    ("tone", "cores"): "contrast of bright cores",
    ("tone", "cores_px"): "size of that contrast",
    ("cleaning", "amount"): "noise taken off",
    ("white", "by"): "white by",
    ("lift", "by"): "lines on top by",
}
"""Settings that are told by a name and both values."""


def differences(one: Recipe, two: Recipe) -> list[str]:
    """Sentences without a full stop, what matters most first; none where nothing differs."""
    return [*_channels(one, two), *_mix(one, two), *_settings(one.settings, two.settings)]


def _channels(one: Recipe, two: Recipe) -> Iterator[str]:
    """Which channels came or went, and which have more data."""
    used = [r.used() for r in (one, two)]
    came, went = _ordered(used[1] - used[0]), _ordered(used[0] - used[1])
    if came:
        yield f"with {', '.join(came)}"
    if went:
        yield f"without {', '.join(went)}"
    for name in _ordered(used[0] & used[1]):
        before, now = one.channels[name], two.channels[name]
        more = (now.hours or 0) - (before.hours or 0)
        if abs(more) >= _HOURS:
            yield f"{name} {'+' if more > 0 else '−'}{abs(more):.1f} h of data"
        elif now.hash != before.hash:
            yield f"{name} prepared anew"


def _ordered(names: Iterable[str]) -> list[str]:
    return sorted(names, key=channel_order)


def _mix(one: Recipe, two: Recipe) -> Iterator[str]:
    a, b = one.settings, two.settings
    if a.mapping != b.mapping:
        yield f"{mapping_words(a.mapping)} to {mapping_words(b.mapping)}"
    elif a.mix != b.mix and a.green_share == b.green_share:
        yield "another mix"
    if "bicolour-shared" in (a.mapping, b.mapping) and abs(a.green_share - b.green_share) > _SHARE:
        yield f"share of green {a.green_share:.2f} to {b.green_share:.2f}"
    for name in _ordered(set(a.on_top()) | set(b.on_top())):
        was, now = (s.lift.of(name) if name in s.lifted else 0.0 for s in (a, b))
        if abs(was - now) > _SHARE:
            yield f"{name} on top {was:.2f} to {now:.2f}"


def _settings(a: BlendSettings, b: BlendSettings) -> Iterator[str]:
    if a.stars.source != b.stars.source:
        yield STAR_WORDS[b.stars.source]
    if a.luminance.source != b.luminance.source:
        yield LUMINANCE_WORDS[b.luminance.source]
    for path, words in _WORDS.items():
        was, now = _at(a, path), _at(b, path)
        if was != now and (text := _change(was, now)):
            yield f"{words} {text}"
    if a.tone.points != b.tone.points:
        both = a.tone.points and b.tone.points
        yield "another curve" if both else "with a curve" if b.tone.points else "without its curve"
    if a.masks != b.masks:
        yield from _masks(a, b)
    if a.finish != b.finish:
        yield finish_words(b)


def _at(settings: BlendSettings, path: tuple[str, ...]) -> Any:
    value: Any = settings
    for name in path:
        value = getattr(value, name)
    return value


def _change(was: Any, now: Any) -> str:
    if isinstance(was, float) and isinstance(now, float):
        return f"{was:.2f} to {now:.2f}" if abs(was - now) > _SHARE else ""
    return f"{was} to {now}"


def _masks(a: BlendSettings, b: BlendSettings) -> Iterator[str]:
    added = [m for m in b.masks if m not in a.masks]
    gone = [m for m in a.masks if m not in b.masks]
    yield from (f"with {mask_words(m)}" for m in added)
    if len(gone) > len(added):
        yield from (f"without {mask_words(m)}" for m in gone[len(added) :])


def finish_words(b: BlendSettings) -> str:
    """How a picture is presented."""
    finish = b.finish
    said = []
    if finish.crop is not None:
        x0, y0, x1, y1 = finish.crop
        said.append(f"cut to {x1 - x0} × {y1 - y0}")
    if finish.flip:
        said.append("flipped")
    if finish.turn:
        said.append(f"turned {finish.turn:.0f}°")
    return ", ".join(said) or "neither cut nor turned"

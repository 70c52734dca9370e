"""Masks in words: the blue part, brighter."""

from __future__ import annotations

from typing import Final

from ..model.mask import Mask

_HUES: Final = (
    (20.0, "red"),
    (55.0, "orange"),
    (100.0, "yellow"),
    (140.0, "green"),
    (190.0, "teal"),
    (235.0, "azure"),
    (270.0, "blue"),
    (310.0, "violet"),
    (345.0, "magenta"),
    (380.0, "red"),
)
"""Oklab hues, each with the name of the colour about it."""
_BRIGHT: Final = 0.45  # lightness from which a range is called bright


def hue_name(degrees: float) -> str:
    """The colour that an Oklab hue is called by."""
    near = min(_HUES, key=lambda h: abs((degrees - h[0] + 180) % 360 - 180))
    return near[1]


def where_words(mask: Mask) -> str:
    """The part that a mask takes."""
    parts = []
    if mask.light is not None:
        high = mask.light.high
        bright = mask.light.low >= _BRIGHT or high is None
        parts.append("bright" if bright and mask.light.low > 0 else "dark")
    if mask.hue is not None:
        parts.append(hue_name(mask.hue[0]))
    head = " ".join(parts)
    if mask.level is not None:
        far = f"to {mask.level.high:.0f} sigma" if mask.level.high is not None else "and up"
        tail = f"where {mask.channel} has {mask.level.low:.0f} {far}"
        head = f"{head} part {tail}" if head else tail
    elif mask.area:
        head = f"{head} part drawn" if head else "part drawn"
    else:
        head = f"{head} part" if head else "all"
    return f"all but the {head}" if mask.invert and head != "all" else head


def what_words(mask: Mask) -> str:
    """What is done to it."""
    found = []
    if mask.lightness:
        found.append("brighter" if mask.lightness > 0 else "darker")
    if mask.chroma:
        found.append("more colour" if mask.chroma > 0 else "less colour")
    if mask.turn:
        found.append(f"hue {mask.turn:+.0f}°")
    if mask.gain_of and mask.gain != 1.0:
        found.append(f"{mask.gain_of} × {mask.gain:.2f}")
    if mask.contrast:
        found.append("sharper" if mask.contrast > 0 else "softer")
    return ", ".join(found) or "nothing yet"


def mask_words(mask: Mask) -> str:
    """A mask in one line."""
    return f"{where_words(mask)}, {what_words(mask)}"

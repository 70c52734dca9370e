"""Two versions beside each other: what differs in words, and their figures."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ...core.blend.difference import differences
from ...core.model.channel import channel_order
from ...core.model.recipe import Recipe
from ..channels.build import Channels
from ..project.state import LaidState, VersionState
from ..viewing.renderer import RGB8

_FULL = 255


@dataclass(frozen=True)
class Row:
    """A figure of both versions, as they are read: what it is, and its two values."""

    what: str
    one: str
    two: str


@dataclass(frozen=True)
class Comparison:
    """What differs from the first to the second, and their figures."""

    words: tuple[str, ...]
    rows: tuple[Row, ...]


def compare(one: VersionState, two: VersionState, a: Recipe | None, b: Recipe | None) -> Comparison:
    """Two versions and their recipes; a picture from elsewhere has none."""
    rows = [Row("hours", *(_figure(v.hours or None, "{:.1f}") for v in (one, two)))]
    for name in sorted({*one.channels, *two.channels}, key=channel_order):
        rows.append(Row(f"SNR {name}", *(_snr(v, name) for v in (one, two))))
    rows.append(Row("noise of the sky", *(_figure(v.noise, "{:.4f}") for v in (one, two))))
    rows.append(Row("star size", *(_figure(star_size(v), "{:.2f} px") for v in (one, two))))
    rows.append(Row("full pixels", *(_figure(v.full, "{:.3%}") for v in (one, two))))
    words = differences(a, b) if a is not None and b is not None else [*_laid_words(one, two)]
    return Comparison(tuple(words), tuple(rows))


def _laid_words(one: VersionState, two: VersionState) -> Iterator[str]:
    for number, version in ((1, one), (2, two)):
        if version.laid is not None:
            yield f"{number} is a picture from elsewhere, {laid_words(version.laid)}"


def laid_words(laid: LaidState) -> str:
    """How a picture from elsewhere lies, in words."""
    parts = [
        f"laid by {laid.stars} stars to {laid.rms_px:.2f} px",
        "mirrored" if laid.mirrored else "",
        f"{laid.scale:.2f} of its pixels to one here",
    ]
    return ", ".join(p for p in parts if p)


def star_size(version: VersionState) -> float | None:
    """The middle width of the stars in its channels, in pixels."""
    known = [c.fwhm_px for c in version.channels.values() if c.fwhm_px]
    return float(np.median(known)) if known else None


def full_share(picture: RGB8) -> float:
    """Share of pixels (H, W, 3) of which a colour is at the top."""
    return float((picture.max(axis=2) >= _FULL).mean())


def changed_channels(version: VersionState, channels: Channels) -> list[str]:
    """Channels of a version that have changed since or are gone, in the usual order."""
    now = {n: channels.channel(n).key for n in channels.names}
    found = [n for n, c in version.channels.items() if now.get(n) != c.key]
    return sorted(found, key=channel_order)


def _snr(version: VersionState, name: str) -> str:
    channel = version.channels.get(name)
    return _figure(channel.snr if channel else None, "{:.1f}")


def _figure(value: float | None, form: str) -> str:
    return "–" if value is None else form.format(value)

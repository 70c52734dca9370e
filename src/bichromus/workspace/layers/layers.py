"""What the blend takes beside the channels: their starless layers, sets of stars, and how much
continuum lies in each line.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from ...core.blend.inputs import BROAD
from ...core.clean.star_sets import sources_of
from ...core.model.measures import Stars
from ...core.model.recipe import StarFigures
from ...core.model.settings import BlendSettings
from ..channels.build import Channels
from ..channels.prepared import Prepared


@dataclass(frozen=True)
class StarSet:
    """Stars to be put back: planes in R, G and B, balanced, with the figures of the set."""

    planes: tuple[Prepared, ...]
    figures: StarFigures


@dataclass(frozen=True)
class Layers:
    """What was made so far. ``removable`` holds the noise that can be taken off: its fine part as a
    plane, its coarse part at half size; ``continua`` holds k of each line and the stars that told
    it; ``pending`` the channels that are still to be split, in order; ``failed`` says by channel
    why it could not be.
    """

    starless: dict[str, Prepared] = field(default_factory=dict)
    sets: dict[str, StarSet] = field(default_factory=dict)
    removable: dict[str, Prepared] = field(default_factory=dict)
    continua: dict[str, tuple[float, int]] = field(default_factory=dict)
    pending: tuple[str, ...] = ()
    failed: dict[str, str] = field(default_factory=dict)

    def has(self, names: Iterable[str]) -> bool:
        """Whether all of these channels are split."""
        return set(names) <= set(self.starless)

    @property
    def keys(self) -> set[str]:
        """Names in the cache of all that is in use."""
        planes = [p for s in self.sets.values() for p in s.planes]
        kept = (*self.starless.values(), *self.removable.values(), *planes)
        return {p.key for p in kept}


NONE = Layers()


@dataclass(frozen=True)
class LayersWanted:
    """What is to be made, as a value: which prepared channels are split, in which order, by which
    layers made elsewhere; of what sets of stars are made; which lines' continuum is sought.
    """

    split: tuple[tuple[str, str], ...] = ()
    layers: tuple[tuple[str, str], ...] = ()
    sets: tuple[str, ...] = ()
    continua: tuple[tuple[str, str], ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        """Channels to be split."""
        return tuple(n for n, _ in self.split)

    def same_as(self, other: LayersWanted) -> bool:
        """Whether the same is wanted, in whatever order."""
        return replace(self, split=()) == replace(other, split=()) and sorted(self.split) == sorted(
            other.split
        )


NOTHING = LayersWanted()


def wanted_layers(
    channels: Channels, settings: BlendSettings, first: Iterable[str], layers: dict[str, str]
) -> LayersWanted:
    """What these settings want of these channels; those that the picture shows ``first``. Channels
    keep their stars where the person leaves them in.
    """
    here = channels.in_use
    if settings.stars.source == "kept" or not here:
        return NOTHING
    first = set(first)
    order = sorted(here, key=lambda n: n not in first)
    continua = [
        (line, broad)
        for line in here
        if line in BROAD and here[line].notes.continuum is None
        for broad in [next((b for b in BROAD[line] if b in here), None)]
        if broad is not None
    ]
    return LayersWanted(
        tuple((n, here[n].key) for n in order),
        tuple((n, f) for n, f in sorted(layers.items()) if n in here),
        star_sources(settings, here),
        tuple(continua),
    )


def star_sources(settings: BlendSettings, names: Iterable[str]) -> tuple[str, ...]:
    """The set of stars that settings ask for, where the channels allow it."""
    can = sources_of(set(names))
    wanted = settings.stars.source
    return can[:1] if wanted == "auto" else tuple(s for s in can if s == wanted)


def richest(parts: Iterable[Prepared]) -> Stars:
    """The stars of the plane that shows most of them."""
    return max((p.measure.stars for p in parts), key=lambda s: s.count)

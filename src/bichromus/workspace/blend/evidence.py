"""What is measured for a blend on its channels' pixels, kept as long as the pixels are the same."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Final, TypeVar

import numpy as np

from ...core.blend.companions import half_size
from ...core.blend.inputs import channels_needed
from ...core.blend.measuring import broad_of, green_share, lift_figures, white_figures
from ...core.measure.white import StarPlane
from ...core.model.channel import COLOURS
from ...core.model.planes import F32
from ...core.model.recipe import (
    BlendFigures,
    ChannelFigures,
    CleanFigures,
    LiftFigures,
    WhiteFigures,
)
from ...core.model.settings import BlendSettings
from ..channels.build import Channels
from ..channels.prepared import Prepared
from ..layers.layers import Layers, richest, star_sources

T = TypeVar("T")
_KEPT: Final = 64


class Evidence:
    """Figures of a blend, from channels and layers. Used on one thread."""

    def __init__(self) -> None:
        self._kept: OrderedDict[Any, Any] = OrderedDict()

    def figures(self, settings: BlendSettings, channels: Channels, layers: Layers) -> BlendFigures:
        """All that a blend of these settings needs to know. The picture stands on starless layers
        where all that it shows are there, and its stars with them.
        """
        whole = channels.in_use
        needed = channels_needed(settings, list(whole))
        starless = ready_without_stars(settings, whole, layers, needed)
        shown = {n: layers.starless[n] if n in needed and starless else p for n, p in whole.items()}
        figures = {
            n: p.figures().model_copy(update={"starless": starless and n in needed})
            for n, p in shown.items()
        }
        return BlendFigures(
            channels=figures,
            white=self._white(settings, whole),
            green=self._green(shown, figures),
            stars={s: layers.sets[s].figures for s in layers.sets} if starless else {},
            cleaning=_cleaning(layers) if starless else {},
            lifts=self._lifts(shown, figures, layers.continua if settings.lift.continuum else {}),
        )

    def _white(self, settings: BlendSettings, whole: Mapping[str, Prepared]) -> WhiteFigures:
        if not set(COLOURS) <= set(whole):
            return WhiteFigures()
        parts = {n: whole[n] for n in COLOURS}

        def make() -> WhiteFigures:
            planes = {
                n: StarPlane(p.levels[0], p.measure.noise.sigma_px, p.notes.saturation)
                for n, p in parts.items()
            }
            return white_figures(settings.white, planes, richest(parts.values()))

        return self._once(("white", settings.white, *(p.key for p in parts.values())), make)

    def _green(
        self, shown: Mapping[str, Prepared], figures: Mapping[str, ChannelFigures]
    ) -> float | None:
        if not {"O3", "Ha"} <= set(shown):
            return None
        o3, ha = shown["O3"], shown["Ha"]
        both = (figures["O3"], figures["Ha"])
        key = ("green", o3.key, ha.key)
        return self._once(key, lambda: green_share(half_of(o3), half_of(ha), both))

    def _lifts(
        self,
        shown: Mapping[str, Prepared],
        figures: Mapping[str, ChannelFigures],
        continua: Mapping[str, tuple[float, int]],
    ) -> dict[str, LiftFigures]:
        found: dict[str, LiftFigures] = {}
        for line in shown:
            broad = broad_of(line, figures)
            if broad is None:
                continue
            pair = {n: shown[n] for n in (line, broad)}
            told = {n: v for n, v in continua.items() if n == line}
            key = ("lift", line, *(p.key for p in pair.values()), told.get(line))

            def make(
                pair: dict[str, Prepared] = pair, told: dict[str, tuple[float, int]] = told
            ) -> dict[str, LiftFigures]:
                halves = {n: half_of(p) for n, p in pair.items()}
                return lift_figures(halves, {n: figures[n] for n in pair}, told)

            found |= self._once(key, make)
        return found

    def _once(self, key: Any, make: Callable[[], T]) -> T:
        if key not in self._kept:
            self._kept[key] = make()
            while len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        self._kept.move_to_end(key)
        found: T = self._kept[key]
        return found


def _cleaning(layers: Layers) -> dict[str, CleanFigures]:
    notes = {n: p.notes.removable for n, p in layers.removable.items()}
    return {
        n: CleanFigures(pixel=f.pixel, blurred=f.blurred, guide=f.guide)
        for n, f in notes.items()
        if f is not None
    }


def half_of(prepared: Prepared) -> F32:
    """A prepared plane at half size."""
    levels = prepared.levels
    return np.asarray(levels[1]) if len(levels) > 1 else half_size(np.asarray(levels[0]))


def ready_without_stars(
    settings: BlendSettings, names: Iterable[str], layers: Layers, needed: Iterable[str]
) -> bool:
    """Whether the picture can stand on starless layers: all that it needs are split, and the stars
    that are to be put back are there, or cannot be had.
    """
    if settings.stars.source == "kept" or not layers.has(needed):
        return False
    wanted = star_sources(settings, names)
    return not layers.pending or all(s in layers.sets for s in wanted)

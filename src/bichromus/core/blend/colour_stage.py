"""What is done to the mixed picture in Oklab, in its order: luminance, lines as lightness, cores,
curve, masks, colour.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..model.planes import F32
from ..model.recipe import Recipe
from ..numerics.oklab import lightness_of_grey
from . import colour
from .inputs import BASE, DISCS, GLOW, Key, soft_key
from .level import Levels
from .lifts import LineLift, line_lifts
from .luminance import luminance_of, take_lightness
from .masks import apply_mask, mask_weight
from .stretch import Curve
from .tone import Cores, LightnessCurve, open_cores


class ColourStage:
    """The colour steps of a recipe, made ready."""

    def __init__(self, recipe: Recipe, curve: Curve, levels: Levels) -> None:
        settings = recipe.settings
        self.settings, self.curve = settings, curve
        self._lifts: tuple[LineLift, ...] = line_lifts(recipe, levels)
        self._luminance = luminance_of(recipe)
        self._tone = LightnessCurve(settings.tone) if settings.tone.points else None
        self._masks = settings.active_masks()
        background = np.full(1, settings.stretch.background, np.float32)
        self.sky = float(lightness_of_grey(background[None])[0, 0])
        self._lightened = bool(self._lifts) and settings.lift.by != "red"
        self.needed = (
            colour.needed(settings.colour)
            or self._lightened
            or self._luminance is not None
            or self._tone is not None
            or settings.tone.cores > 0
            or any(m.acts_on_colour() for m in self._masks)
        )

    def lift(self, values: F32, names: tuple[str, ...], planes: Mapping[Key, F32]) -> None:
        """Add lines to the levelled channels (n, N) of the mix, in place."""
        if self.settings.lift.by == "lift":
            return
        for lift in self._lifts:
            light = self._light(lift, planes)
            for output, share in lift.into.items():
                if output in names:
                    values[names.index(output)] += np.float32(share) * light

    def apply(
        self,
        lab: F32,
        planes: Mapping[Key, F32],
        weights: list[F32],
        cores: Cores | None,
        work: F32,
    ) -> None:
        """All steps on Oklab (3, N), in place; ``weights`` are those of the masks."""
        settings, glow = self.settings, planes.get(GLOW)
        if self._luminance is not None:
            level = _levelled(self._luminance.weights, planes)
            take_lightness(lab, self._lightness(level), self._luminance, glow)
        if self._lightened:
            self._lift_lightness(lab, planes)
        if settings.tone.cores > 0 and cores is not None:
            blurred = planes[soft_key(settings.tone.cores_px)]
            open_cores(lab, blurred, settings.tone.cores, cores)
        if self._tone is not None:
            self._tone.apply(lab)
        for mask, weight in zip(self._masks, weights, strict=False):
            if not weight.any():  # most of a picture lies outside an area drawn
                continue
            soft = planes.get(soft_key(mask.contrast_px)) if mask.contrast else None
            apply_mask(lab, mask, weight, self.sky, soft)
        colour.apply_colour(lab, settings.colour, glow, planes.get(DISCS), work)

    def _light(self, lift: LineLift, planes: Mapping[Key, F32]) -> F32:
        pair = (planes[Key("channel", lift.name)], planes[Key("channel", lift.broad)])
        light = lift.light(*pair, planes[Key("lift", lift.name)])
        return light if np.isfinite(light.sum()) else np.nan_to_num(light, nan=0.0)

    def _lift_lightness(self, lab: F32, planes: Mapping[Key, F32]) -> None:
        """Lines as lightness: each brightens the picture by its own light, as one film over
        another, so that nothing is darkened and nothing burns out.
        """
        for lift in self._lifts:
            over = (self._lightness(self._light(lift, planes)) - self.sky) / (1 - self.sky)
            lab[0] += np.maximum(over, 0) * np.maximum(1 - lab[0], 0)

    def _lightness(self, level: F32) -> F32:
        code = self.curve(level[None])
        return lightness_of_grey(np.clip(code, np.float32(0), np.float32(1), out=code))[0]


def mask_weights(recipe: Recipe, planes: Mapping[Key, F32]) -> list[F32]:
    """How much each active mask takes of each pixel (N,)."""
    found = []
    for index, mask in enumerate(recipe.settings.active_masks()):
        level = planes.get(Key("level", mask.channel)) if mask.level is not None else None
        area = planes.get(Key("area", str(index))) if mask.area else None
        picture = planes.get(BASE)
        first = next(iter(planes.values()))
        weight = mask_weight(mask, level, picture, area, first.shape[-1])
        found.append(weight)
    return found


def _levelled(weights: Mapping[str, float], planes: Mapping[Key, F32]) -> F32:
    whole: F32 | None = None
    for name, weight in weights.items():
        part = planes[Key("channel", name)] * np.float32(weight)
        whole = part if whole is None else np.add(whole, part, out=whole)
    assert whole is not None  # a luminance without weights is none
    return whole if np.isfinite(whole.sum()) else np.nan_to_num(whole, nan=0.0)

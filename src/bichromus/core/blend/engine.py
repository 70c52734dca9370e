"""The one engine: prepared, background-0 values of each plane in, sRGB code out."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from typing import Final

import cv2
import numpy as np

from ..model.errors import UnsupportedData
from ..model.planes import F32
from ..model.recipe import Recipe
from ..model.settings import OUTPUTS
from ..numerics.oklab import code_to_oklab, decode, encode, oklab_to_light
from .colour_stage import ColourStage, mask_weights
from .green import BACKGROUND_SHARE
from .inputs import BASE, GREEN, STARS, Key, channels_of, cleaned_names, inputs_of
from .level import Levels, levels_at
from .starlight import starlight
from .stretch import Curve
from .tone import Cores

_LEAST_WHITE: Final = 1.001  # of the signal's level: the brightest lies above it
_TINY: Final = 1e-4  # level below which a factor is that of the sky's noise
CHUNK: Final = 1 << 16  # pixels worked on at once: the scratch of one thread stays in its cache


class Blender:
    """A recipe made ready. Pure and thread-safe; the same pixel in gives the same pixel out,
    wherever it lies. ``cores`` tells where bright cores begin, for a recipe that opens them.
    """

    def __init__(self, recipe: Recipe, cores: Cores | None = None) -> None:
        settings = recipe.settings
        self.names: tuple[str, ...] = settings.mixed()
        missing = [n for n in settings.used() if n not in recipe.channels]
        if not self.names or missing:
            why = f"{', '.join(missing)} is missing" if missing else "no output takes any channel"
            raise UnsupportedData(
                "There is nothing to blend", why=why, do="Choose a mapping that fits the channels"
            )
        self.recipe, self.settings, self.cores = recipe, settings, cores
        self.inputs: tuple[Key, ...] = inputs_of(recipe)
        self.figures = {n: recipe.channels[n] for n in channels_of(recipe)}
        self.levels: Levels = levels_at(recipe)
        self._gains = np.array([self.levels.gains[n] for n in self.names], np.float32)
        self._mix = self._matrix()
        whites = [self.levels.gains[n] * (recipe.channels[n].white or 0) for n in self.names]
        noise = max((self.levels.noise[n] for n in self.names), default=0.0)
        self.curve = Curve(settings.stretch, max([*whites, _LEAST_WHITE]), noise)
        self._colours = ColourStage(recipe, self.curve, self.levels)
        self._stars = starlight(recipe) if STARS[0] in self.inputs else None
        self._finished = self._colours.needed or self._stars is not None

    @property
    def sky(self) -> float:
        """Oklab lightness of the empty sky."""
        return self._colours.sky

    def _matrix(self) -> F32:
        mix: dict[str, dict[str, float]] = {o: dict(r) for o, r in self.settings.mix.items()}
        if GREEN in self.inputs:
            mix["G"] = {"O3": BACKGROUND_SHARE, "Ha": 1 - BACKGROUND_SHARE}
        rows = [[mix.get(o, {}).get(n, 0.0) for n in self.names] for o in OUTPUTS]
        return np.array(rows, np.float32)

    def render(self, planes: Mapping[Key, F32]) -> F32:
        """sRGB code (3, H, W) or (3, N) of the planes of ``inputs``, all of one shape. NaN becomes
        background.
        """
        return self._by_chunks(planes, self._chunk)

    def oklab(self, planes: Mapping[Key, F32]) -> F32:
        """The same before it is encoded, in Oklab (3, H, W), without stars."""
        return self._by_chunks(planes, self._lab)

    def _by_chunks(
        self, planes: Mapping[Key, F32], work: Callable[[dict[Key, F32], Buffers, F32], F32]
    ) -> F32:
        """``work`` gets a chunk of planes, buffers, and where its answer may be laid."""
        shape = planes[self.inputs[0]].shape
        total = planes[self.inputs[0]].size
        flat = {}
        for key in self.inputs:
            plane = np.ascontiguousarray(planes[key])
            flat[key] = plane.reshape(3, total) if key == BASE else plane.reshape(total)
        out = np.empty((3, total), np.float32)
        buffers = _buffers(len(self.names))
        for start in range(0, total, CHUNK):
            cut = slice(start, min(start + CHUNK, total))
            into = out[:, cut]
            found = work({k: f[..., cut] for k, f in flat.items()}, buffers, into)
            if found is not into:
                into[:] = found
        return out.reshape(3, *shape)

    def _chunk(self, planes: dict[Key, F32], buffers: Buffers, into: F32) -> F32:
        self._clean(planes)
        weights = mask_weights(self.recipe, planes)
        code = self._mixed(planes, weights, buffers)
        if not self._finished:
            return code
        size = code.shape[1]
        first, second = (b[:3, :size] for b in buffers[1:])
        if self._colours.needed:
            lab = code_to_oklab(code, second, first)
            self._colours.apply(lab, planes, weights, self.cores, first)
            light = oklab_to_light(lab, first, code)
        else:
            light = decode(code, first)
        if self._stars is not None:
            self._stars.put(light, [planes[k] for k in STARS])
        return encode(light, into)

    def _lab(self, planes: dict[Key, F32], buffers: Buffers, into: F32) -> F32:
        self._clean(planes)
        code = self._mixed(planes, [], buffers)
        first = buffers[1][:3, : code.shape[1]]
        lab = code_to_oklab(code, into, first)
        self._colours.apply(lab, planes, [], None, first)
        return lab

    def _clean(self, planes: dict[Key, F32]) -> None:
        """Take noise off channels, by their amounts."""
        for name in cleaned_names(self.recipe):
            amount = self.recipe.cleaned[name]
            fine, coarse = (planes[Key(k, name)][None] for k in ("fine", "coarse"))
            off = cv2.addWeighted(fine, amount.fine, coarse, amount.coarse, 0)[0]
            planes[Key("channel", name)] = np.subtract(planes[Key("channel", name)], off, out=off)

    def _mixed(self, planes: dict[Key, F32], weights: list[F32], buffers: Buffers) -> F32:
        """Level, stretch and mix: sRGB code (3, N)."""
        size, count = planes[self.inputs[0]].shape[-1], len(self.names)
        values, level, work = (b[:count, :size] for b in buffers)
        for row, name, gain in zip(values, self.names, self._gains, strict=True):
            np.multiply(planes[Key("channel", name)], gain, out=row)
        if not np.isfinite(values.sum()):
            np.nan_to_num(values, copy=False, nan=0.0)
        self._colours.lift(values, self.names, planes)
        for mask, weight in zip(self.settings.active_masks(), weights, strict=False):
            if mask.gain_of in self.names and mask.gain != 1.0:
                row = values[self.names.index(mask.gain_of)]
                row *= 1 + np.float32(mask.gain - 1) * weight
        common = self._common(values) if self.settings.stretch.common else None
        level = self.curve.above(values, level, work)
        if common is not None:
            level *= np.float32(1 - self.settings.stretch.common)
            level += common
        code = np.matmul(self._mix, level, out=buffers[0][:3, :size])
        if GREEN in planes:
            more = planes[GREEN] - np.float32(BACKGROUND_SHARE)
            more *= level[self.names.index("O3")] - level[self.names.index("Ha")]
            code[1] += more
        code += np.float32(self.settings.stretch.background)
        return np.clip(code, np.float32(0), np.float32(1), out=code)

    def _common(self, values: F32) -> F32:
        """The share of levels that one factor for all channels makes: hues stay as they are."""
        mean = values.mean(0, keepdims=True)
        base = np.float32(self.settings.stretch.background)
        factor = (self.curve(mean) - base) / np.where(np.abs(mean) < _TINY, _TINY, mean)
        return np.asarray(values * factor * np.float32(self.settings.stretch.common), np.float32)


Buffers = tuple[F32, F32, F32]


class _Scratch(threading.local):
    """Kept from call to call by each thread: fresh memory costs more than the arithmetic done in
    it.
    """

    buffers: Buffers | None = None


_SCRATCH: Final = _Scratch()


def _buffers(channels: int) -> Buffers:
    rows = max(channels, 3)
    found = _SCRATCH.buffers
    if found is None or found[0].shape[0] < rows:
        first, second, third = (np.zeros((rows, CHUNK), np.float32) for _ in range(3))
        found = _SCRATCH.buffers = (first, second, third)
    return found

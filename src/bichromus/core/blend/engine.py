"""The one engine: prepared, background-0 values of each plane in, sRGB code out."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import Final

import numpy as np

from ..model.errors import UnsupportedData
from ..model.planes import F32
from ..model.recipe import Recipe
from ..model.settings import OUTPUTS
from ..numerics.oklab import decode, encode, from_oklab, to_oklab
from . import colour
from .green import BACKGROUND_SHARE
from .inputs import DISCS, GLOW, GREEN, STARS, Key, channels_of, cleaned_names, inputs_of
from .level import Levels, levels_at
from .lifts import line_lifts
from .luminance import lightness_of_grey, luminance_of, take_lightness
from .starlight import starlight
from .stretch import Curve

CHUNK: Final = 1 << 16  # pixels worked on at once: the scratch of one thread stays in its cache


class Blender:
    """A recipe made ready. Pure and thread-safe; the same pixel in gives the same pixel out,
    wherever it lies.
    """

    def __init__(self, recipe: Recipe) -> None:
        settings = recipe.settings
        self.names: tuple[str, ...] = settings.mixed()
        missing = [n for n in settings.used() if n not in recipe.channels]
        if not self.names or missing:
            why = f"{', '.join(missing)} is missing" if missing else "no output takes any channel"
            raise UnsupportedData(
                "There is nothing to blend", why=why, do="Choose a mapping that fits the channels"
            )
        self.recipe, self.settings = recipe, settings
        self.inputs: tuple[Key, ...] = inputs_of(recipe)
        self.figures = {n: recipe.channels[n] for n in channels_of(recipe)}
        self.levels: Levels = levels_at(recipe)
        self._gains = np.array([self.levels.gains[n] for n in self.names], np.float32)
        self._mix = self._matrix()
        whites = [self.levels.gains[n] * (recipe.channels[n].white or 0) for n in self.names]
        self.curve = Curve(settings.stretch, max([*whites, 1.0]))
        self._lifts = line_lifts(recipe, self.levels)
        self._luminance = luminance_of(recipe)
        self._stars = starlight(recipe) if STARS[0] in self.inputs else None
        lightened = bool(self._lifts) and settings.lift.by != "red"
        lightened = lightened or self._luminance is not None
        self._in_colour = colour.needed(settings.colour) or lightened
        self._finished = self._in_colour or self._stars is not None

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
        shape = planes[self.inputs[0]].shape
        flat = {k: np.ascontiguousarray(planes[k]).reshape(-1) for k in self.inputs}
        total = flat[self.inputs[0]].size
        out = np.empty((3, total), np.float32)
        buffers = _buffers(len(self.names))
        for start in range(0, total, CHUNK):
            cut = slice(start, min(start + CHUNK, total))
            out[:, cut] = self._chunk({k: f[cut] for k, f in flat.items()}, buffers)
        return out.reshape(3, *shape)

    def _chunk(self, planes: dict[Key, F32], buffers: Buffers) -> F32:
        self._clean(planes)
        code = self._mixed(planes, buffers)
        if not self._finished:
            return code
        size = code.shape[1]
        first, second = (b[:3, :size] for b in buffers[1:])
        light = decode(code, first)
        if self._in_colour:
            lab = to_oklab(light, second, code)
            self._colour(lab, planes, first)
            light = colour.into_gamut(from_oklab(lab, first, code), lab[0])
        if self._stars is not None:
            self._stars.put(light, np.stack([planes[k] for k in STARS]))
        return encode(light, second)

    def _clean(self, planes: dict[Key, F32]) -> None:
        """Take noise off channels, by their amounts."""
        for name in cleaned_names(self.recipe):
            amount = self.recipe.cleaned[name]
            fine, coarse = planes[Key("fine", name)], planes[Key("coarse", name)]
            off = np.float32(amount.fine) * fine + np.float32(amount.coarse) * coarse
            planes[Key("channel", name)] = planes[Key("channel", name)] - off

    def _mixed(self, planes: dict[Key, F32], buffers: Buffers) -> F32:
        """Level, stretch and mix: sRGB code (3, N)."""
        size, count = planes[self.inputs[0]].size, len(self.names)
        values, level, work = (b[:count, :size] for b in buffers)
        for row, name, gain in zip(values, self.names, self._gains, strict=True):
            np.multiply(planes[Key("channel", name)], gain, out=row)
        if not np.isfinite(values.sum()):
            np.nan_to_num(values, copy=False, nan=0.0)
        self._lift(values, planes)
        level = self.curve.above(values, level, work)
        code = np.matmul(self._mix, level, out=buffers[0][:3, :size])
        if GREEN in planes:
            more = planes[GREEN] - np.float32(BACKGROUND_SHARE)
            more *= level[self.names.index("O3")] - level[self.names.index("Ha")]
            code[1] += more
        code += np.float32(self.settings.stretch.background)
        return np.clip(code, np.float32(0), np.float32(1), out=code)

    def _lift(self, values: F32, planes: dict[Key, F32]) -> None:
        if self.settings.lift.by == "lift":
            return
        for lift in self._lifts:
            light = self._line_light(lift.name, planes)
            for output, share in lift.into.items():
                if output in self.names:
                    values[self.names.index(output)] += np.float32(share) * light

    def _line_light(self, name: str, planes: dict[Key, F32]) -> F32:
        lift = next(f for f in self._lifts if f.name == name)
        pair = (planes[Key("channel", name)], planes[Key("channel", lift.broad)])
        light = lift.light(*pair, planes[Key("lift", name)])
        return light if np.isfinite(light.sum()) else np.nan_to_num(light, nan=0.0)

    def _colour(self, lab: F32, planes: dict[Key, F32], work: F32) -> None:
        glow = planes.get(GLOW)
        if self._luminance is not None:
            level = self._levelled(self._luminance.weights, planes)
            take_lightness(lab, self._lightness(level), self._luminance, glow)
        if self._lifts and self.settings.lift.by != "red":
            self._lift_lightness(lab, planes)
        colour.apply_colour(lab, self.settings.colour, glow, planes.get(DISCS), work)

    def _lift_lightness(self, lab: F32, planes: dict[Key, F32]) -> None:
        """Lines as lightness: each brightens the picture by its own light, as one film over
        another, so that nothing is darkened and nothing burns out.
        """
        sky = lightness_of_grey(np.full(1, self.settings.stretch.background, np.float32))[0]
        for lift in self._lifts:
            over = (self._lightness(self._line_light(lift.name, planes)) - sky) / (1 - sky)
            lab[0] += np.maximum(over, 0) * np.maximum(1 - lab[0], 0)

    def _levelled(self, weights: Mapping[str, float], planes: dict[Key, F32]) -> F32:
        total = np.zeros(planes[self.inputs[0]].size, np.float32)
        for name, weight in weights.items():
            total += np.float32(weight) * planes[Key("channel", name)]
        return total if np.isfinite(total.sum()) else np.nan_to_num(total, copy=False, nan=0.0)

    def _lightness(self, level: F32) -> F32:
        return lightness_of_grey(self.curve(level[None])[0])


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

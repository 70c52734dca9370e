"""The one engine: prepared, background-0 values of each channel in, sRGB code out."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import Final

import numpy as np

from ..model.errors import UnsupportedData
from ..model.planes import F32
from ..model.recipe import OUTPUTS, Recipe
from .colour import apply_colour, needed
from .level import Levels, level_channels
from .stretch import Curve

CHUNK: Final = 1 << 16  # pixels worked on at once: the scratch of one thread stays in its cache


class Blender:
    """A recipe made ready. Pure and thread-safe; the same pixel in gives the same pixel out,
    wherever it lies.
    """

    def __init__(self, recipe: Recipe) -> None:
        settings = recipe.settings
        self.names: tuple[str, ...] = settings.used()
        missing = [n for n in self.names if n not in recipe.channels]
        if not self.names or missing:
            why = f"{', '.join(missing)} is missing" if missing else "no output takes any channel"
            raise UnsupportedData(
                "There is nothing to blend", why=why, do="Choose a mapping that fits the channels"
            )
        self.settings = settings
        self.figures = {n: recipe.channels[n] for n in self.names}
        self.levels: Levels = level_channels(self.figures, self.names, settings.balance)
        self._gains = np.array([self.levels.gains[n] for n in self.names], np.float32)
        self._mix = np.array(
            [
                [settings.mix.get(o, {}).get(n, 0.0) for n in self.names]  # type: ignore[call-overload]
                for o in OUTPUTS
            ],
            np.float32,
        )
        whites = [self.levels.gains[n] * (f.white or 0) for n, f in self.figures.items()]
        self.curve = Curve(settings.stretch, max([*whites, 1.0]))
        self._colour = needed(settings.colour)

    def render(
        self, planes: Sequence[F32], glow: F32 | None = None, stars: F32 | None = None
    ) -> F32:
        """sRGB code (3, H, W) or (3, N) of background-0 planes, in the order of ``names``.

        ``glow`` and ``stars`` are companion planes of the same shape. NaN becomes background.
        """
        shape = planes[0].shape
        flat = [np.ascontiguousarray(p).reshape(-1) for p in planes]
        total = flat[0].size
        out = np.empty((3, total), np.float32)
        glow1 = None if glow is None else glow.reshape(-1)
        stars1 = None if stars is None else stars.reshape(-1)
        buffers = _buffers(len(self.names))
        for start in range(0, total, CHUNK):
            cut = slice(start, min(start + CHUNK, total))
            out[:, cut] = self._chunk(
                [f[cut] for f in flat],
                None if glow1 is None else glow1[cut],
                None if stars1 is None else stars1[cut],
                buffers,
            )
        return out.reshape(3, *shape)

    def _chunk(
        self, planes: list[F32], glow: F32 | None, stars: F32 | None, buffers: Buffers
    ) -> F32:
        size, count = planes[0].size, len(planes)
        values, level, work = (b[:count, :size] for b in buffers)
        for row, plane, gain in zip(values, planes, self._gains, strict=True):
            np.multiply(plane, gain, out=row)
        if not np.isfinite(values.sum()):
            np.nan_to_num(values, copy=False, nan=0.0)
        level = self.curve.above(values, level, work)
        code = np.matmul(self._mix, level, out=buffers[0][:3, :size])
        code += np.float32(self.settings.stretch.background)
        np.clip(code, np.float32(0), np.float32(1), out=code)
        if not self._colour:
            return code
        first, second = (b[:3, :size] for b in buffers[1:])
        return apply_colour(code, self.settings.colour, glow, stars, (first, second, code))


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

"""The curve from linear levels to the picture, with a shoulder that holds bright cores back."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..model.settings import Stretch
from ..numerics.pixel_loops import ASINH, is_row

_SIGN: Final = np.uint32(0x80000000)
_TOE: Final = 0.02  # level below which a power is a straight line: its slope would have no end
_STRAIGHT: Final = 1.0 + 1e-6  # of a curve's top: it needs no shoulder
_SOFTEST: Final = 50.0  # of the rational curve where noise leaves it no room


@dataclass(frozen=True)
class Curve:
    """f(0) = background, f(1) = signal, symmetric around 0, slope 1 into the shoulder, f(white) =
    1. ``noise`` is the levels' noise, from which the rational curve has its black.

    The default is asinh (after Lupton et al. 2004); rational has an exact black; bias is that of
    Schlick 1994, power a plain exponent.
    """

    settings: Stretch
    white: float
    noise: float = 0.0

    @property
    def _rise(self) -> float:
        return self.settings.signal - self.settings.background

    @cached_property
    def _step(self) -> float:
        return self._rise / float(np.arcsinh(self.settings.strength))

    @cached_property
    def _half(self) -> float:
        """Where the rational curve has half its way: h of x (1 + h) / (x + h)."""
        below = self._rise * self.settings.black * max(self.noise, 1e-6)
        room = self.settings.background / below
        return min(1 / (room - 1), _SOFTEST) if room > 1 else _SOFTEST

    @cached_property
    def _reach(self) -> float:
        """Share of the way to white that the signal has gone."""
        return self._rise / (1 - self.settings.background)

    @cached_property
    def top(self) -> float:
        """Value of the bare curve at white; the shoulder brings it to 1 where it lies above."""
        white = np.full((1, 1), self.white, np.float32)
        return self.settings.background + float(self._bare(white)[0, 0])

    def __call__(self, x: F32) -> F32:
        """Apply to levelled values (any shape); a new array."""
        flat = np.array(x, np.float32).reshape(-1, x.shape[-1])
        level = self.above(flat, np.empty_like(flat), np.empty_like(flat))
        level += np.float32(self.settings.background)
        return level.reshape(x.shape)

    def above(self, x: F32, out: F32, work: F32) -> F32:
        """The curve less its background, into ``out``; ``x`` and ``work`` (2-D, the same shape) are
        used up.
        """
        if self.settings.kind == "asinh":
            if self._compiled(x, out):
                return out
            self._asinh(x, out, work)
        else:
            np.copyto(out, self._bare(x))
        self._shoulder(out)
        return out

    def _compiled(self, x: F32, out: F32) -> bool:
        """Whether the asinh with its shoulder was reckoned by a compiled loop."""
        loop = ASINH.get()
        if loop is None or not is_row(x) or not is_row(out):
            return False
        base, top, shoulder = self.settings.background, self.top, self.settings.shoulder
        knee, over, a = shoulder - base, 0.0, 1.0
        if top > _STRAIGHT:
            over, a = 1 / (top - shoulder), (top - shoulder) / (1 - shoulder)
        else:
            knee = np.inf
        step = self._step * np.log(2)
        figures = (self.settings.strength, step, knee, over, a - 1, (1 - shoulder) * a)
        for row, to in zip(x, out, strict=True):
            loop(row, np.array(figures, np.float32), to)
        return True

    def _bare(self, x: F32) -> F32:
        """The curve less its background and without its shoulder; a new array."""
        kind = self.settings.kind
        if kind == "asinh":
            return self._asinh(np.array(x), np.empty_like(x), np.empty_like(x))
        size: np.ndarray = np.abs(x)
        if kind == "rational":
            h = np.float32(self._half)
            over: np.ndarray = size * (1 + h) / (size + h)
            below = size * (1 + h) / h  # straight to black
            return np.asarray(np.where(x < 0, -below, over) * np.float32(self._rise), np.float32)
        if kind == "bias":
            y = size * np.float32(1 / self.white)
            y1 = 1 / self.white
            bend = np.float32((y1 / self._reach - 1) / max(1 - y1, 1e-6))
            over = y / (bend * (1 - np.minimum(y, 1)) + 1)
        else:
            gamma = np.float32(np.log(self._reach) / min(np.log(1 / self.white), -1e-6))
            y = np.maximum(size, _TOE) * np.float32(1 / self.white)
            over = y**gamma * np.minimum(size / np.float32(_TOE), 1)
        over = np.copysign(over, x) * np.float32(1 - self.settings.background)
        return np.asarray(over, np.float32)

    def _asinh(self, x: F32, out: F32, work: F32) -> F32:
        x *= np.float32(self.settings.strength)
        np.multiply(x, x, out=out)
        out += np.float32(1)
        np.sqrt(out, out=out)
        out += np.abs(x, out=work)
        cv2.log(out, out)
        # the sign of x, by its bit: several times faster than copysign
        sign = work.view(np.uint32)
        np.bitwise_and(x.view(np.uint32), _SIGN, out=sign)
        np.bitwise_or(out.view(np.uint32), sign, out=out.view(np.uint32))
        out *= np.float32(self._step)
        return out

    def _shoulder(self, above: F32) -> None:
        """Hold bright values back, in place."""
        base, top = self.settings.background, self.top
        knee = self.settings.shoulder - base
        if top <= _STRAIGHT or float(above.max()) <= knee:
            return
        row, column = np.nonzero(above > np.float32(knee))
        a = (top - self.settings.shoulder) / (1 - self.settings.shoulder)
        u = (above[row, column] - np.float32(knee)) * np.float32(1 / (top - self.settings.shoulder))
        held = u * np.float32((1 - self.settings.shoulder) * a) / (1 + u * np.float32(a - 1))
        above[row, column] = np.float32(knee) + held

    def inverse(self, value: float) -> float:
        """Level that lands at ``value`` on the asinh curve, were there no shoulder."""
        return (
            float(np.sinh((value - self.settings.background) / self._step)) / self.settings.strength
        )

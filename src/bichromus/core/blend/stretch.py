"""The curve from linear levels to the picture: asinh (after Lupton et al. 2004) with a shoulder."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..model.settings import Stretch

_SIGN: Final = np.uint32(0x80000000)


@dataclass(frozen=True)
class Curve:
    """f(0) = background, f(1) = signal, symmetric around 0, slope 1 into the shoulder, f(white) =
    1.
    """

    settings: Stretch
    white: float

    @property
    def _step(self) -> float:
        return (self.settings.signal - self.settings.background) / float(
            np.arcsinh(self.settings.strength)
        )

    @property
    def top(self) -> float:
        """Value of the bare curve at white; the shoulder brings it to 1 where it lies above."""
        return self.settings.background + self._step * float(
            np.arcsinh(self.settings.strength * self.white)
        )

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
        self._shoulder(out)
        return out

    def _shoulder(self, above: F32) -> None:
        """Hold bright values back, in place."""
        base, top = self.settings.background, self.top
        knee = self.settings.shoulder - base
        if top <= 1.0 or float(above.max()) <= knee:
            return
        row, column = np.nonzero(above > np.float32(knee))
        a = (top - self.settings.shoulder) / (1 - self.settings.shoulder)
        u = (above[row, column] - np.float32(knee)) * np.float32(1 / (top - self.settings.shoulder))
        held = u * np.float32((1 - self.settings.shoulder) * a) / (1 + u * np.float32(a - 1))
        above[row, column] = np.float32(knee) + held

    def inverse(self, value: float) -> float:
        """Level that lands at ``value``, were there no shoulder."""
        return (
            float(np.sinh((value - self.settings.background) / self._step)) / self.settings.strength
        )

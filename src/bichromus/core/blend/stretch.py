"""The curve from linear levels to the picture: asinh (after Lupton et al. 2004) with a shoulder."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ..model.planes import F32
from ..model.recipe import Stretch


@dataclass(frozen=True)
class Curve:
    """f(0) = background, f(1) = signal, symmetric around 0, slope 1 into the shoulder, f(white) = 1."""

    settings: Stretch
    white: float

    @property
    def _step(self) -> float:
        return (self.settings.signal - self.settings.background) / float(np.arcsinh(self.settings.strength))

    @property
    def top(self) -> float:
        """Value of the bare curve at white; the shoulder brings it to 1 where it lies above."""
        return self.settings.background + self._step * float(np.arcsinh(self.settings.strength * self.white))

    def __call__(self, x: F32) -> F32:
        """Apply to levelled values of any shape."""
        scaled = np.multiply(x, np.float32(self.settings.strength))
        value = np.multiply(scaled, scaled)
        value += np.float32(1)
        np.sqrt(value, out=value)
        value += np.abs(scaled)
        flat = value.reshape(-1, value.shape[-1])
        cv2.log(flat, flat)
        np.copysign(value, scaled, out=value)
        value *= np.float32(self._step)
        value += np.float32(self.settings.background)
        self._shoulder(value)
        return value

    def _shoulder(self, value: F32) -> None:
        """Hold bright values back, in place."""
        knee, top = self.settings.shoulder, self.top
        bright = value > knee
        if top <= 1.0 or not bright.any():
            return
        a = (top - knee) / (1 - knee)
        u = (value[bright] - np.float32(knee)) * np.float32(1 / (top - knee))
        value[bright] = np.float32(knee) + u * np.float32((1 - knee) * a) / (1 + u * np.float32(a - 1))

    def inverse(self, value: float) -> float:
        """Level that lands at ``value`` (below the shoulder)."""
        return float(np.sinh((value - self.settings.background) / self._step)) / self.settings.strength

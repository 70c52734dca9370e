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
        """Apply to levelled values of any shape, at least 2-D or 1-D contiguous."""
        scaled = x * np.float32(self.settings.strength)
        away = np.abs(scaled)
        away += np.sqrt(away * away + np.float32(1))
        value = np.asarray(cv2.log(away), np.float32).reshape(x.shape)
        np.copysign(value, scaled, out=value)
        value *= np.float32(self._step)
        value += np.float32(self.settings.background)
        return self._shoulder(value)

    def _shoulder(self, value: F32) -> F32:
        knee, top = self.settings.shoulder, self.top
        if top <= 1.0 or top <= knee:
            return value
        a = (top - knee) / (1 - knee)
        u = np.clip((value - np.float32(knee)) * np.float32(1 / (top - knee)), 0, None)
        held = np.float32(knee) + u * np.float32((1 - knee) * a) / (1 + u * np.float32(a - 1))
        return np.where(value > knee, held, value).astype(np.float32, copy=False)

    def inverse(self, value: float) -> float:
        """Level that lands at ``value`` (below the shoulder)."""
        return float(np.sinh((value - self.settings.background) / self._step)) / self.settings.strength

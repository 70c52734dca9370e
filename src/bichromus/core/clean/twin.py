"""A twin of a channel's noise: fixed random values with the same noise on every scale, to learn
from it what cannot be measured on nebula.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Final

import numpy as np

from ..numerics.starlet import WHITE, details

SCALES: Final = 6
WINDOWS_PX: Final = (8.0, 8.0, 12.0, 18.0, 28.0, 40.0)
"""Sigma of the window in which a scale's light is compared with its guide's."""
_SIDE: Final = 512
_SEED: Final = 20270317
_ROUNDS: Final = 12
_DIGITS: Final = 3  # of the ratios between scales: twins are kept by them


def independent_values(sigmas: tuple[float, ...]) -> tuple[float, ...]:
    """How many independent values the window of each scale holds, of noise with these standard
    deviations of its six starlet scales (any unit).
    """
    first = sigmas[0] / WHITE[0]
    ratios = tuple(round(s / (w * first), _DIGITS) for s, w in zip(sigmas, WHITE, strict=True))
    return _independents(ratios)


@lru_cache(maxsize=32)
def _independents(ratios: tuple[float, ...]) -> tuple[float, ...]:
    """Scales of white noise, weighted until their own starlet has the wanted noise on each."""
    white = np.random.default_rng(_SEED).standard_normal((_SIDE, _SIDE), dtype=np.float32)
    parts = details(white, SCALES)
    parts.append(white - np.sum(parts, axis=0))
    wanted = np.array(ratios) * WHITE
    weights = np.append(np.array(ratios), ratios[-1])
    found = _covariances(parts)
    for _ in range(_ROUNDS):
        now = np.sqrt([weights @ c @ weights for c in found])
        weights[:-1] *= wanted / np.maximum(now, 1e-12)
        weights[-1] = weights[-2]
    noise = np.tensordot(weights.astype(np.float32), np.array(parts), 1)
    scales = details(noise, SCALES)
    return tuple(_independent(p, window) for p, window in zip(scales, WINDOWS_PX, strict=True))


def _covariances(parts: list[np.ndarray]) -> list[np.ndarray]:
    """For each scale the covariance (7, 7) of what it sees of each part of white noise."""
    seen = [details(p, SCALES) for p in parts]
    return [np.cov(np.stack([s[j].ravel() for s in seen])) for j in range(SCALES)]


def _independent(plane: np.ndarray, window: float) -> float:
    """Independent values in a Gaussian window: 1 / sum of the window's autocorrelation times the
    plane's correlation squared.
    """
    power = np.abs(np.fft.rfft2(plane - plane.mean())) ** 2
    rho = np.fft.irfft2(power, s=plane.shape)
    rho /= rho[0, 0]
    along = np.fft.fftfreq(plane.shape[0], 1 / plane.shape[0])
    # the autocorrelation of a normalised Gaussian window is a Gaussian of sqrt(2) its width
    shape = np.exp(-(along**2) / (4 * window**2)) / np.sqrt(4 * np.pi * window**2)
    share = float((shape[:, None] * shape[None, :] * rho**2).sum())
    return 1.0 / max(share, 1e-12)

"""Counting photons: what a sensor makes of the light that is to be expected."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.planes import F32
from ..numerics.compiled import Compiled, load

_FEW: Final = 50.0
_SMOOTH: Final = 1.0
"""With at least so many electrons expected, or so much read noise (e-), the bent normal law is
within a thousandth of the true one everywhere (worst case: 5.6e-4 at 1 electron).
"""
_PIECE: Final = 1 << 16  # pixels whose figures stay in the processor's cache


def counted(expected: F32, read_noise: float, rng: np.random.Generator) -> F32:
    """Electrons counted where so many are ``expected`` (any shape, not negative), with a normal
    read noise of ``read_noise`` electrons; float32, the same shape.

    A normal law bent until mean, variance, skewness and kurtosis are those of the Poisson law and
    the read noise together (Cornish & Fisher 1938). Where that is not enough, few electrons almost
    without read noise, they are drawn from the Poisson law itself.
    """
    load()  # a sky is the same, whatever was done before
    flat = np.ascontiguousarray(expected, np.float32).ravel()
    out = np.empty_like(flat)
    for start in range(0, flat.size, _PIECE):
        piece = slice(start, start + _PIECE)
        _count(flat[piece], read_noise, rng, out[piece])
    return out.reshape(expected.shape)


def _count(mean: F32, read_noise: float, rng: np.random.Generator, out: F32) -> None:
    normal = rng.standard_normal(mean.shape, dtype=np.float32)
    few = np.flatnonzero(mean < _FEW) if read_noise < _SMOOTH else np.empty(0, np.intp)
    counts = rng.poisson(mean[few]) + np.float32(read_noise) * normal[few]
    loop = _BEND.get() or _bend
    loop(normal, mean, np.float32(max(read_noise, 1e-6) ** 2), out)
    out[few] = counts


def _bend(normal: F32, mean: F32, read2: np.float32, out: F32) -> None:
    """Normal deviates z to counts: m + s z + a (z^2 - 1) / 6 + z a ((z^2 - 3) / 24 - a (2 z^2 -
    5) / 36) / s, where s^2 = m + read noise^2 and a = m / s^2.
    """
    variance = mean + read2
    photons = mean / variance
    spread = np.sqrt(variance)
    square = normal * normal
    np.multiply(spread, normal, out=out)
    out += mean
    out += (square - 1) * photons * np.float32(1 / 6)
    curved = (square - 3) * np.float32(1 / 24)
    curved -= (2 * square - 5) * photons * np.float32(1 / 36)
    curved *= photons
    curved *= normal
    curved /= spread
    out += curved


def _bend_each(normal: F32, mean: F32, read2: np.float32, out: F32) -> None:
    """The same, pixel by pixel."""
    sixth, part, other = np.float32(1 / 6), np.float32(1 / 24), np.float32(1 / 36)
    one, two, three, five = np.float32(1), np.float32(2), np.float32(3), np.float32(5)
    for n in range(len(out)):
        z, m = normal[n], mean[n]
        variance = m + read2
        photons = m / variance
        spread = np.sqrt(variance)
        square = z * z
        curved = (square - three) * part - (two * square - five) * photons * other
        out[n] = m + spread * z + photons * ((square - one) * sixth + z * curved / spread)


_BEND: Final = Compiled(_bend_each, wide=True)

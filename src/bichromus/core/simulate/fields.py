"""Random fields with a given spectrum."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from typing import Final

import cv2
import numpy as np
import scipy

from ..model.planes import F32

_THREADS: Final = 2
_UNSEEN: Final = 0.05
"""Standard deviation, of 1, of the waves that a field may lack."""


def power_field(
    shape: tuple[int, int], slope: float, rng: np.random.Generator, longest_px: float | None = None
) -> F32:
    """Gaussian field with amplitude spectrum k^(-slope/2), mean 0 and standard deviation 1.

    Waves longer than ``longest_px`` are flattened, so that no single wave rules the picture. Waves
    too short to matter are left out, and the field is cubic between every so many pixels.
    """
    return _made(shape, slope, rng.spawn(1)[0], longest_px or max(shape))


class FieldsAhead:
    """Fields that other threads make from when they are asked for. Each has random numbers of its
    own: the same ones, whichever is made first.
    """

    def __init__(self, shape: tuple[int, int], rng: np.random.Generator) -> None:
        self._shape, self._rng = shape, rng
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="field")

    def ask(self, slope: float, longest_px: float) -> Callable[[], F32]:
        """A field like that of ``power_field``; called, it waits until it is made."""
        rng = self._rng.spawn(1)[0]
        return self._pool.submit(_made, self._shape, slope, rng, longest_px).result

    def close(self) -> None:
        """No more is asked for."""
        self._pool.shutdown()


def _made(shape: tuple[int, int], slope: float, rng: np.random.Generator, longest_px: float) -> F32:
    step = _step(slope, longest_px)
    if step == 1:
        return _drawn(shape, slope, rng, longest_px)
    height, width = (-(-n // step) for n in shape)
    small = _drawn((height, width), slope, rng, longest_px / step)
    whole = cv2.resize(small, (width * step, height * step), interpolation=cv2.INTER_CUBIC)
    return np.ascontiguousarray(whole[: shape[0], : shape[1]], np.float32)


def _step(slope: float, longest_px: float) -> int:
    """The widest step in pixels, a power of two, that loses only waves of ``_UNSEEN``."""
    step = 1
    while slope > 2 and 2 / slope * (longest_px / (4 * step)) ** (2 - slope) < _UNSEEN**2:
        step *= 2
    return step


def _drawn(
    shape: tuple[int, int], slope: float, rng: np.random.Generator, longest_px: float
) -> F32:
    """A field from random waves: white noise has them all alike, so none is drawn before."""
    height, width = (scipy.fft.next_fast_len(n, real=True) for n in shape)
    parts = rng.standard_normal((height, width // 2 + 1, 2), dtype=np.float32)
    waves = parts.view(np.complex64)[..., 0]
    waves *= _amplitude(height, width, slope, 1.0 / longest_px)
    field = scipy.fft.irfft2(waves, s=(height, width), overwrite_x=True)
    field = np.ascontiguousarray(field[: shape[0], : shape[1]], np.float32)
    mean, spread = (float(v[0, 0]) for v in cv2.meanStdDev(field))
    field -= np.float32(mean)
    field /= np.float32(spread)
    return field


def _amplitude(height: int, width: int, slope: float, floor: float) -> F32:
    """By wave numbers, as a real transform orders them."""
    amplitude = np.maximum(_log_wave_number2(height, width), np.float32(2 * np.log(floor)))
    amplitude *= np.float32(-slope / 4)
    np.exp(amplitude, out=amplitude)
    amplitude[0, 0] = 0
    amplitude[:, 0] *= np.sqrt(2)  # of waves straight up and down a real field keeps half
    return amplitude


@lru_cache(maxsize=4)
def _log_wave_number2(height: int, width: int) -> F32:
    """Logarithm of the square of the wave number; the longest is at [0, 0]."""
    ky = scipy.fft.fftfreq(height).astype(np.float32)[:, None]
    kx = scipy.fft.rfftfreq(width).astype(np.float32)[None, :]
    square = kx * kx + ky * ky
    square[0, 0] = 1 / (height * width)
    return np.asarray(np.log(square, out=square), np.float32)


def ridged(field: F32, sharp: float) -> F32:
    """Ridges where a field passes zero, 0 to 1; the higher ``sharp``, the thinner."""
    return (np.clip(1 - np.abs(field) / 1.35, 0, 1) ** (sharp / 2)).astype(np.float32)


def smoothstep(start: float, end: float, x: F32) -> F32:
    """A smooth step from 0 at ``start`` to 1 at ``end``."""
    t = np.clip((x - start) / (end - start), 0, 1)
    return (t * t * (3 - 2 * t)).astype(np.float32)

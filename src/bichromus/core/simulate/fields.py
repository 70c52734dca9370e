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


def power_field(
    shape: tuple[int, int], slope: float, rng: np.random.Generator, longest_px: float | None = None
) -> F32:
    """Gaussian field with amplitude spectrum k^(-slope/2), mean 0 and standard deviation 1.

    Waves longer than ``longest_px`` are flattened, so that no single wave rules the picture.
    """
    return _shaped(_noise(shape, rng), shape, slope, longest_px or max(shape), workers=2)


class FieldsAhead:
    """Fields whose noise is drawn when they are asked for, one after the other, and which are made
    of it by other threads meanwhile.
    """

    def __init__(self, shape: tuple[int, int], rng: np.random.Generator) -> None:
        self._shape, self._rng = shape, rng
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="field")

    def ask(self, slope: float, longest_px: float) -> Callable[[], F32]:
        """A field like that of ``power_field``; called, it waits until it is made."""
        noise = _noise(self._shape, self._rng)
        return self._pool.submit(_shaped, noise, self._shape, slope, longest_px).result

    def close(self) -> None:
        """No more is asked for."""
        self._pool.shutdown()


def _noise(shape: tuple[int, int], rng: np.random.Generator) -> F32:
    height, width = (scipy.fft.next_fast_len(n, real=True) for n in shape)
    return rng.standard_normal((height, width), dtype=np.float32)


def _shaped(
    noise: F32, shape: tuple[int, int], slope: float, longest_px: float, workers: int = 1
) -> F32:
    height, width = noise.shape
    waves = scipy.fft.rfft2(noise, workers=workers)
    waves *= _amplitude(height, width, slope, 1.0 / longest_px)
    field = scipy.fft.irfft2(waves, s=(height, width), workers=workers, overwrite_x=True)
    field = np.ascontiguousarray(field[: shape[0], : shape[1]], np.float32)
    mean, spread = (float(v[0, 0]) for v in cv2.meanStdDev(field))
    field -= np.float32(mean)
    field /= np.float32(spread)
    return field


@lru_cache(maxsize=6)
def _amplitude(height: int, width: int, slope: float, floor: float) -> F32:
    """By wave numbers, as a real transform orders them."""
    ky = scipy.fft.fftfreq(height)[:, None]
    kx = scipy.fft.rfftfreq(width)[None, :]
    amplitude = np.maximum(kx * kx + ky * ky, floor * floor) ** (-slope / 4)
    amplitude[0, 0] = 0
    return np.asarray(amplitude, np.float32)


def ridged(field: F32, sharp: float) -> F32:
    """Ridges where a field passes zero, 0 to 1; the higher ``sharp``, the thinner."""
    return (np.clip(1 - np.abs(field) / 1.35, 0, 1) ** (sharp / 2)).astype(np.float32)


def smoothstep(start: float, end: float, x: F32) -> F32:
    """A smooth step from 0 at ``start`` to 1 at ``end``."""
    t = np.clip((x - start) / (end - start), 0, 1)
    return (t * t * (3 - 2 * t)).astype(np.float32)

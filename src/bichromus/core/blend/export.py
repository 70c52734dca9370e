"""The whole picture, band by band."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.measures import Surface
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from ..numerics.bands import ordered_parallel, row_bands
from .companions import full_rows
from .engine import Blender

BAND_ROWS: Final = 32
_TOP: Final = {"uint16": 65535.0, "uint8": 255.0}


@dataclass(frozen=True)
class Source:
    """A channel on disk or in memory: raw rows as stored, and the background to take off."""

    rows: Callable[[int, int], np.ndarray]
    background: Surface

    def clean(self, y0: int, y1: int) -> F32:
        out = np.array(self.rows(y0, y1), np.float32)
        out -= self.background.rows(y0, y1)
        return out


@dataclass
class Clipped:
    """Share of output values at the very bottom and top, counted as bands pass."""

    low: float = 0.0
    high: float = 0.0
    _count: int = 0

    def add(self, code: F32) -> None:
        share = code.size / max(self._count + code.size, 1)
        self.low += (float(np.count_nonzero(code <= 0)) / code.size - self.low) * share
        self.high += (float(np.count_nonzero(code >= 1)) / code.size - self.high) * share
        self._count += code.size


def render_bands(
    blender: Blender,
    sources: dict[str, Source],
    shape: tuple[int, int],
    dtype: str,
    glow: F32 | None = None,
    stars: F32 | None = None,
    progress: Progress = SILENT,
    clipped: Clipped | None = None,
    threads: int = 2,
) -> Iterator[np.ndarray]:
    """Bands (rows, W, 3) of ``dtype`` from top to bottom; companions at half size."""
    width = shape[1]

    def work(band: tuple[int, int]) -> tuple[int, F32, np.ndarray]:
        y0, y1 = band
        planes = [sources[n].clean(y0, y1) for n in blender.names]
        extra = [None if c is None else full_rows(c, width, y0, y1) for c in (glow, stars)]
        code = blender.render(planes, *extra)
        return y1, code, quantise(code, dtype)

    before = cv2.getNumThreads()
    cv2.setNumThreads(1)  # the bands already fill the cores
    try:
        for y1, code, pixels in ordered_parallel(work, row_bands(shape[0], BAND_ROWS), threads):
            progress.step(y1 / shape[0], "writing the picture")
            if clipped is not None:
                clipped.add(code)
            yield pixels
    finally:
        cv2.setNumThreads(before)


def quantise(code: F32, dtype: str) -> np.ndarray:
    """(3, H, W) code 0..1 to (H, W, 3) of uint16, uint8 or float32."""
    seen = np.moveaxis(code, 0, -1)
    if dtype == "float32":
        return np.ascontiguousarray(seen)
    top = np.float32(_TOP[dtype])
    return (seen * top + np.float32(0.5)).astype(dtype)

"""Row bands: the unit in which large pictures are worked on. They fill the cores, so a library
that would cut each of them once more is told not to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import Final, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .cores import shared

T = TypeVar("T")
Band = TypeVar("Band")
_ROWS: Final = 256

cv2.setNumThreads(1)


def row_bands(height: int, rows: int) -> Iterator[tuple[int, int]]:
    """Pairs (y0, y1) that cover ``height`` rows in order."""
    for y0 in range(0, height, rows):
        yield y0, min(y0 + rows, height)


def mirrored(places: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Pixels of a row of ``count`` that goes on mirrored beyond both ends, at any ``places``."""
    period = max(2 * (count - 1), 1)
    folded = np.abs(places) % period
    return np.asarray(np.minimum(folded, period - folded), np.int64)


def ordered_parallel(
    work: Callable[[Band], T], bands: Iterator[Band], threads: int, ahead: int = 2
) -> Iterator[T]:
    """Run ``work`` on each band in threads and yield the results in order.

    No more than ``threads + ahead`` bands are alive at once, so memory is bounded by the band. In
    one of several pieces that run side by side there are fewer threads.
    """
    threads = shared(threads)
    if threads < 2:
        yield from map(work, bands)
        return
    with ThreadPoolExecutor(max_workers=threads) as pool:
        waiting = [pool.submit(work, band) for band in islice(bands, threads + ahead)]
        try:
            while waiting:
                result = waiting.pop(0).result()
                waiting.extend(pool.submit(work, band) for band in islice(bands, 1))
                yield result
        finally:
            for future in waiting:
                future.cancel()


def in_parallel(work: Callable[[Band], None], bands: Iterator[Band], threads: int = 2) -> None:
    """Run ``work`` on all bands: each writes its own part of what is made."""
    for _ in ordered_parallel(work, bands, threads):
        pass


def filtered(plane: F32, work: Callable[[F32], F32], reach: int, into: F32 | None = None) -> F32:
    """What ``work`` makes of a plane (H, W), band by band: a filter whose pixels depend on no more
    than ``reach`` rows above and below. Written ``into`` another one where given.
    """
    height = plane.shape[0]
    rows = max(_ROWS, 2 * reach)
    if height <= rows and into is None:
        return work(plane)
    out = np.empty(plane.shape, np.float32) if into is None else into

    def one(band: tuple[int, int]) -> None:
        first, last = max(band[0] - reach, 0), min(band[1] + reach, height)
        out[band[0] : band[1]] = work(plane[first:last])[band[0] - first : band[1] - first]

    in_parallel(one, row_bands(height, rows))
    return out

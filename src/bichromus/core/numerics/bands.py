"""Row bands: the unit in which large pictures are worked on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import TypeVar

T = TypeVar("T")
Band = TypeVar("Band")


def row_bands(height: int, rows: int) -> Iterator[tuple[int, int]]:
    """Pairs (y0, y1) that cover ``height`` rows in order."""
    for y0 in range(0, height, rows):
        yield y0, min(y0 + rows, height)


def ordered_parallel(
    work: Callable[[Band], T], bands: Iterator[Band], threads: int, ahead: int = 2
) -> Iterator[T]:
    """Run ``work`` on each band in threads and yield the results in order.

    No more than ``threads + ahead`` bands are alive at once, so memory is bounded by the band.
    """
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

"""FITS with three float planes, where they lie in the sky, and the blend's history."""

from __future__ import annotations

from pathlib import Path
from typing import IO

from ..fits_out import fits_header
from .base import PictureFormat, Task


def _write(path: Path, task: Task) -> None:
    with open(path, "wb") as handle:
        _fill(handle, task)


def _fill(handle: IO[bytes], task: Task) -> None:
    shape = task.shape
    cards = fits_header(
        task.header, (3, *shape), ["Bichromus blend; values are sRGB-encoded, 0 to 1", task.recipe]
    )
    start = handle.write(cards.tostring().encode("ascii"))
    plane = shape[0] * shape[1] * 4
    y = 0
    for band in task.bands:
        for index in range(3):
            handle.seek(start + index * plane + y * shape[1] * 4)
            handle.write(band[..., index].astype(">f4").tobytes())
        y += band.shape[0]
    handle.seek(start + 3 * plane)
    handle.write(b"\0" * (-3 * plane % 2880))


FORMATS = (
    PictureFormat(
        "fits32",
        (".fits", ".fit", ".fts"),
        "float32",
        "FITS, 32-bit float",
        "three float planes with the blend's history",
        _write,
        order=50,
    ),
)

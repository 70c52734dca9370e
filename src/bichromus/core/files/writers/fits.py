"""FITS with three float planes: where they lie in the sky, who made them, how they were blended."""

from __future__ import annotations

from pathlib import Path
from typing import IO

from ...model.imprint import Imprint
from ..fits_out import ascii_line, fits_header
from .base import PictureFormat, Task


def _write(path: Path, task: Task) -> None:
    with open(path, "wb") as handle:
        _fill(handle, task)


def _cards(imprint: Imprint) -> dict[str, str]:
    """What a person says of it, in the cards that the standard has for it. A card holds 68
    characters: longer words go on in a second of their own (the standard's CONTINUE).
    """
    words = {
        "TITLE": imprint.title,
        "AUTHOR": imprint.author_line,
        "RIGHTS": imprint.rights,
        "COMMENT": imprint.description,
    }
    return {k: ascii_line(v) for k, v in words.items() if v}


def _fill(handle: IO[bytes], task: Task) -> None:
    shape = task.shape
    history = [f"Bichromus blend; values are {task.space.title} code, 0 to 1", task.recipe]
    cards = fits_header(task.header, (3, *shape), history, _cards(task.imprint))
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
        captioned=False,
    ),
)

"""TIFF with 16 bits or 32-bit float a colour, its profile, what is said of it, and the recipe."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Final

import numpy as np

from .base import SOFTWARE, PictureFormat, Task

_CLASSIC_BYTES: Final = 3_900_000_000
"""Beyond this a classic TIFF, whose offsets have 32 bits, may overflow."""


def _tags(task: Task) -> list[tuple[int, int, int, bytes, bool]]:
    """Artist, rights and XMP, as tag, type, count, value, and whether once only."""
    said = ((315, task.imprint.author_line), (33432, task.imprint.rights))
    found = [(tag, 2, words.encode("utf-8") + b"\0") for tag, words in said if words]
    found.append((700, 1, task.xmp))
    return [(tag, kind, len(value), value, True) for tag, kind, value in found]


def _write(dtype: str, path: Path, task: Task) -> None:
    shape = task.shape
    said = task.imprint.description or task.imprint.title
    # bare JSON would be taken for the layout that some readers keep there
    description = (said or f"recipe: {task.recipe}").encode("ascii", "backslashreplace").decode()
    import tifffile  # loaded with the first such file

    with tifffile.TiffWriter(path, bigtiff=shape[0] * shape[1] * 12 > _CLASSIC_BYTES) as tif:
        place = tif.write(
            None,
            shape=(*shape, 3),
            dtype=dtype,
            photometric="rgb",
            rowsperstrip=64,
            iccprofile=task.profile,
            description=description,
            metadata=None,
            software=SOFTWARE,
            extratags=_tags(task),
            returnoffset=True,
        )
    assert place is not None
    with open(path, "r+b") as handle:
        handle.seek(place[0])
        for band in task.bands:
            handle.write(np.ascontiguousarray(band).data)


FORMATS = (
    PictureFormat(
        "tiff16",
        (".tiff", ".tif"),
        "uint16",
        "TIFF, 16 bits",
        "16 bits for each colour, with profile: for further work and for print",
        partial(_write, "uint16"),
        order=10,
    ),
    PictureFormat(
        "tiff32",
        (".tiff",),
        "float32",
        "TIFF, 32-bit float",
        "32-bit float: nothing is rounded",
        partial(_write, "float32"),
        order=20,
        tail="_float",
    ),
)

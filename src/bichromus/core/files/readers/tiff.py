"""TIFF, also with a header as JSON in its description."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Final

import numpy as np
import tifffile

from ...model.errors import UnreadableFile
from ...model.planes import Header
from ..headers import map_header
from .base import Reader

_MAGIC: Final = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def _sniff(head: bytes) -> bool:
    return head[:4] in _MAGIC


def _read(path: Path) -> tuple[np.ndarray, Header]:
    try:
        with tifffile.TiffFile(path, is_shaped=False) as tif:
            series = tif.series[0]
            data = series.asarray()
            description = str(getattr(tif.pages[0], "description", "")) if tif.pages else ""
            axes = series.axes
    except Exception as error:  # the decoder raises anything at all on damaged files
        why = (str(error).splitlines() or [type(error).__name__])[0]
        raise UnreadableFile(
            "This TIFF file cannot be read",
            why=why,
            do="Copy it again from where it came",
            file=path,
        ) from error
    if axes.endswith("S") and data.ndim == 3:
        data = np.moveaxis(data[..., :3], -1, 0) if data.shape[-1] >= 3 else data[..., 0]
    return data, _described(description)


def _described(description: str) -> Header:
    try:
        cards: Any = json.loads(description)
    except ValueError:
        return Header()
    if not isinstance(cards, dict):
        return Header()
    return map_header(
        {str(k).upper(): v for k, v in cards.items() if isinstance(v, str | int | float)}
    )


READER = Reader("tiff", "TIFF", (".tiff", ".tif"), _sniff, _read, order=20)

"""TIFF, also with a header as JSON in its description."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Any, Final

import numpy as np

from ...model.errors import InputError, UnreadableFile, UnsupportedData
from ...model.json_text import parse_json
from ...model.planes import Header
from ..foreign import check_room
from ..headers import map_header
from .base import Reader

logging.getLogger("tifffile").setLevel(logging.CRITICAL + 1)  # what is wrong, we say

_WHITE_IS_ZERO: Final = 0
_LIGHT: Final = (1, 2, 34892)
"""Grey, RGB, and linear raw colours."""
_KINDS: Final = {
    3: "numbers of a palette",
    4: "a mask",
    5: "inks",
    6: "luma and chroma",
    8: "CIE Lab",
    9: "ICC Lab",
    32803: "a mosaic of a raw file",
}
_MAGIC: Final = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def _sniff(head: bytes) -> bool:
    return head[:4] in _MAGIC


def _read(path: Path) -> tuple[np.ndarray, Header]:
    try:
        import tifffile  # loaded with the first such file

        with tifffile.TiffFile(path, is_shaped=False) as tif:
            series = tif.series[0]
            page = tif.pages[0]
            _check(series, page, path)
            data = _upright(series.asarray(), page)
            description = str(getattr(tif.pages[0], "description", "")) if tif.pages else ""
            axes = series.axes
    except InputError:
        raise
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
    elif axes.startswith("S") and data.ndim == 3:  # planes one after the other; alpha is left out
        data = data[:3] if data.shape[0] >= 3 else data[0]
    return data, _described(description)


def _check(series: Any, page: Any, path: Path) -> None:
    """Raises UnsupportedData for colours that are no counts of light, for several pages, and for
    more pixels than there is room for.
    """
    kind = int(page.photometric)
    if kind not in (_WHITE_IS_ZERO, *_LIGHT):
        raise UnsupportedData(
            "These colours are no counts of light",
            why=f"the TIFF holds {_KINDS.get(kind, 'colours of another kind')}",
            do="Save it in grey or in RGB",
            file=path,
        )
    shape = tuple(int(n) for n in series.shape)
    if len(shape) == 3 and "S" not in series.axes and min(shape[0], shape[2]) > 1:
        raise UnsupportedData(
            "This TIFF holds several pages",
            why=f"{shape[0]} pictures of {shape[2]} x {shape[1]} pixels",
            do="Save each as a file of its own, or all three as one RGB picture",
            file=path,
        )
    check_room(shape, np.dtype(series.dtype).itemsize, path)


def _upright(data: np.ndarray, page: Any) -> np.ndarray:
    """Data with more light as larger numbers."""
    if int(page.photometric) != _WHITE_IS_ZERO or data.dtype.kind != "u":
        return data
    top = np.iinfo(data.dtype).max
    return np.asarray(top - data, data.dtype)


def _described(description: str) -> Header:
    try:
        cards: Any = parse_json(description)
    except ValueError:
        return Header()
    if not isinstance(cards, dict):
        return Header()
    return map_header(
        {str(k).upper(): v for k, v in cards.items() if isinstance(v, str | int | float)}
    )


READER = Reader("tiff", "TIFF", (".tiff", ".tif"), _sniff, _read, order=20)

"""TIFF, also with a header as JSON in its description."""

from __future__ import annotations

import logging
from dataclasses import replace
from math import prod
from pathlib import Path
from typing import Any, Final

import numpy as np

from ...model.errors import InputError, UnreadableFile, UnsupportedData
from ...model.json_text import parse_json
from ...model.planes import Header
from ..foreign import check_packing, check_room
from ..headers import map_header
from .base import Reader

logging.getLogger("tifffile").setLevel(logging.CRITICAL + 1)  # what is wrong, we say

_WHITE_IS_ZERO: Final = 0
_GREY: Final = (_WHITE_IS_ZERO, 1)
_RGB_PLANES: Final = 3
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
            page: Any = tif.pages[0]
            _check(series, page, path)
            data = _upright(series.asarray(), page)
            description = str(getattr(tif.pages[0], "description", "")) if tif.pages else ""
            axes = series.axes
            colours = _RGB_PLANES if int(page.photometric) not in _GREY else 1
            bits = int(np.min(page.bitspersample))
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
        data = np.moveaxis(data, -1, 0)
        axes = "S"
    if axes.startswith("S") and data.ndim == 3:  # alpha and what else lies beside is left out
        data = data[:3] if colours >= _RGB_PLANES and len(data) >= _RGB_PLANES else data[0]
    return data, _with_top(_described(description), data, bits)


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
    item = np.dtype(series.dtype).itemsize
    check_room(shape, item, path)
    check_packing(prod(shape), sum(page.databytecounts), path)


def _upright(data: np.ndarray, page: Any) -> np.ndarray:
    """Data with more light as larger numbers."""
    if int(page.photometric) != _WHITE_IS_ZERO or data.dtype.kind != "u":
        return data
    top = min(np.iinfo(data.dtype).max, (1 << int(np.min(page.bitspersample))) - 1)
    return np.asarray(top - np.minimum(data, data.dtype.type(top)), data.dtype)


def _with_top(header: Header, data: np.ndarray, bits: int) -> Header:
    """A header that says where the range of integers ends, where their type holds more than the
    file has bits: 15 for four bits, 4095 for twelve.
    """
    whole = 8 * data.dtype.itemsize
    if data.dtype.kind != "u" or bits >= whole or header.saturation is not None:
        return header
    return replace(header, saturation=float((1 << bits) - 1))


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

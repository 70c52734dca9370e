"""Any picture file in: sniffed by its content, never by its name alone."""

from __future__ import annotations

import gzip
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ..model.errors import UnreadableFile, UnsupportedData
from ..model.planes import Header, Picture
from .border import empty_border
from .foreign import FOREIGN, require_file, why_of
from .readers import READERS, Reader, titles

_HEAD_BYTES: Final = 32
_GZIP: Final = b"\x1f\x8b"
_JPEG: Final = b"\xff\xd8\xff"
_SMALLEST_PX: Final = 16
"""Below this a side holds no block of sky to measure."""
_BEYOND: Final = 1e18
"""No light comes near it: programs write such values where there is none, and their squares would
not fit in single precision.
"""
_BELOW_ZERO: Final = -0.1
"""Data from here to 1.0 count as scaled to 1: a background at zero has noise below it."""


def read_picture(path: str | Path) -> Picture:
    """Read a picture as linear float32 data, (H, W) or (3, H, W). Integers stay counts.

    Single NaN, infinite or absurd pixels become NaN, with a warning. Raises UnreadableFile or
    UnsupportedData.
    """
    path = Path(path).absolute()
    stored, header = sniff(path).read(path)
    bits = 8 * stored.dtype.itemsize if stored.dtype.kind in "ui" else None
    data = _as_planes(stored, path)
    spans = [_span(plane) for plane in (data if data.ndim == 3 else data[None])]
    header = _with_saturation(header, stored, spans)
    picture = _finish(Picture(data, header, path, bits), spans)
    if bits == 8:
        words = f"{path.name} has only 8 bits: faint nebula will show steps."
        picture = picture.with_warnings(words)
    return picture


def sniff(path: Path) -> Reader:
    """The reader of a file. Raises UnreadableFile for what none knows, with the reason."""
    head, packed = _head(path)
    if not head:
        raise UnreadableFile("This file is empty", do="Copy it again from where it came", file=path)
    for reader in READERS.values():
        if reader.sniff(head) and (reader.packed or not packed):
            return reader
    if head.startswith(_JPEG):
        raise UnsupportedData(
            "A JPEG is a finished picture, not data to measure",
            do="Give the linear stack as FITS, TIFF or 16-bit PNG",
            file=path,
        )
    raise UnreadableFile(
        "This is not a picture that can be read",
        why=f"neither {titles('nor')}",
        do="Save the stack in one of these formats",
        file=path,
    )


def _head(path: Path) -> tuple[bytes, bool]:
    """The first bytes of a file, unpacked, and whether it was packed."""
    require_file(path)
    try:
        if path.is_dir():
            raise UnreadableFile(
                "This is a folder, not a picture", do="Choose the files inside it", file=path
            )
        with open(path, "rb") as handle:
            head = handle.read(_HEAD_BYTES)
        if head[:2] != _GZIP:
            return head, False
        with gzip.open(path, "rb") as handle:
            return handle.read(_HEAD_BYTES), True
    except FileNotFoundError as error:
        raise UnreadableFile(
            "There is no such file", do="Check the name and the disk", file=path
        ) from error
    except FOREIGN as error:
        raise UnreadableFile(
            "This file cannot be opened",
            why=why_of(error),
            do="Check its rights and the disk",
            file=path,
        ) from error


def _as_planes(stored: np.ndarray, path: Path) -> np.ndarray:
    if stored.dtype.kind not in "uif":
        raise UnsupportedData(
            "These data are not numbers of a picture",
            why=f"type {stored.dtype}",
            do="Save as integers or floats",
            file=path,
        )
    shape = stored.shape
    data = stored
    if data.ndim == 3:
        if shape[0] == 3:
            pass
        elif shape[2] == 3:
            data = np.moveaxis(data, 2, 0)
        elif 1 in (shape[0], shape[2]):
            data = data[0] if shape[0] == 1 else data[..., 0]
    good = data.ndim == 2 or (data.ndim == 3 and data.shape[0] == 3)
    if not good or min(data.shape[-2:]) < _SMALLEST_PX:
        what = " x ".join(map(str, shape))
        raise UnsupportedData(
            "This picture has the wrong shape",
            why=f"{what}, not one plane or three",
            do="Give a mono plane or a colour stack of at least 16 x 16 pixels",
            file=path,
        )
    with np.errstate(over="ignore", invalid="ignore"):
        return np.ascontiguousarray(data, np.float32)


@dataclass(frozen=True)
class _Span:
    """The least and the most value of a plane, and how many pixels hold none; NaN for no value."""

    least: float
    most: float
    bad: int


def _span(plane: np.ndarray) -> _Span:
    least, most = float(plane.min()), float(plane.max())
    if least >= -_BEYOND and most <= _BEYOND:  # neither holds for NaN
        return _Span(least, most, 0)
    finite = plane[_told(plane)]
    if not finite.size:
        return _Span(np.nan, np.nan, plane.size)
    return _Span(float(finite.min()), float(finite.max()), plane.size - finite.size)


def _told(data: np.ndarray) -> np.ndarray:
    """Which pixels hold a value."""
    return np.asarray(np.abs(data) <= _BEYOND)


def _finish(picture: Picture, spans: Sequence[_Span]) -> Picture:
    data, path = picture.data, picture.file
    bad = sum(s.bad for s in spans)
    if bad == data.size:
        raise UnsupportedData(
            "There is no finite value in this picture", do="Stack it again", file=path
        )
    planes = data if picture.colour else data[None]
    for name, span in zip("RGB" if picture.colour else " ", spans, strict=True):
        if not (span.least < 0 or span.most > 0):
            which = f"plane {name}" if picture.colour else "every pixel"
            raise UnsupportedData(
                "This picture is empty", why=f"{which} is zero", do="Stack it again", file=path
            )
    if bad:
        data[~_told(data)] = np.nan
        picture = picture.with_warnings(f"{bad:,} pixels without a finite value are left out.")
    border = empty_border(planes)
    if border is not None:
        planes[:, border] = np.nan
    return picture


def _with_saturation(header: Header, stored: np.ndarray, spans: Sequence[_Span]) -> Header:
    if header.saturation is not None:
        return header
    top: float | None = None
    if stored.dtype.kind in "ui":
        top = float(np.iinfo(stored.dtype).max)
    else:
        known = [s for s in spans if s.least <= s.most]
        least = min((s.least for s in known), default=_BELOW_ZERO - 1)
        if least >= _BELOW_ZERO and max(s.most for s in known) <= 1.0:
            top = 1.0
    return replace(header, saturation=top)

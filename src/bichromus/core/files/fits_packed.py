"""Gzipped FITS, unpacked step by step.

The file is read to its end, so that its checksum is looked at: a bit that a disk has turned is not
taken for a star. And it is read along its headers, so that a small file that unpacks without end is
noticed after the first bytes that no header announces.
"""

from __future__ import annotations

import gzip
import io
import math
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Final

from ..model.errors import InputError, UnreadableFile
from .astropy_fits import astropy_fits
from .foreign import FOREIGN, check_room, why_of

BLOCK: Final = 2880
"""Bytes; every part of a FITS file fills whole ones."""
_MOST_HEADER: Final = 4000 * BLOCK
_STEP: Final = 1 << 20
_MOST_BEHIND: Final = 16 << 20
"""Bytes behind the last part that some programs leave there."""
_AGAIN: Final = "Copy the file again from where it came"


def is_packed(path: Path) -> bool:
    """Whether a file is gzipped, by how it begins."""
    with open(path, "rb") as handle:
        return handle.read(2) == b"\x1f\x8b"


def unpacked(path: Path) -> io.BytesIO:
    """All parts of a gzipped FITS file, in memory. Raises UnreadableFile, UnsupportedData."""
    whole = io.BytesIO()
    for _ in _parts(path, whole):
        pass
    whole.seek(0)
    return whole


def packed_headers(path: Path) -> list[Any]:
    """The headers of a gzipped FITS file; its data are unpacked, checked and dropped. Raises
    UnreadableFile, UnsupportedData.
    """
    return list(each_header(path))


def each_header(path: Path) -> Iterator[Any]:
    """The same one by one; what is behind the last one that is asked for is not unpacked."""
    return _parts(path, None)


def require_end(path: Path) -> None:
    """Raises UnreadableFile for a plain file whose first header has no end within any that was ever
    written: a library would read all of it, however large, to find one.
    """
    with open(path, "rb") as handle:
        for _ in range(_MOST_HEADER // BLOCK):
            block = handle.read(BLOCK)
            if not block or b"END" + b" " * 77 in block:
                return
    raise UnreadableFile(
        "This FITS file is damaged", why="its header does not end", do=_AGAIN, file=path
    )


def data_bytes(header: Any) -> int:
    """Bytes of the data behind a header, without what fills the last block."""
    axes = [int(header[f"NAXIS{n + 1}"]) for n in range(int(header.get("NAXIS", 0)))]
    if not axes:
        return 0
    if min(axes) < 0:
        raise ValueError("an axis has a negative length")
    cells = math.prod(axes) + int(header.get("PCOUNT", 0))
    return abs(int(header["BITPIX"])) // 8 * cells * int(header.get("GCOUNT", 1))


def _parts(path: Path, whole: io.BytesIO | None) -> Iterator[Any]:
    try:
        with gzip.open(path, "rb") as stream:
            while (block := stream.read(BLOCK)) and block.startswith((b"SIMPLE", b"XTENSION")):
                text = _header(stream, block)
                header = astropy_fits().Header.fromstring(text)
                size = data_bytes(header)
                if whole is not None:
                    check_room((size,), 1, path)
                    whole.write(text)
                _data(stream, size, whole)
                yield header
            _drain(stream, len(block))
    except (EOFError, _Cut) as error:
        raise UnreadableFile(
            "This packed file is cut short", why="its end is missing", do=_AGAIN, file=path
        ) from error
    except (gzip.BadGzipFile, zlib.error) as error:
        raise UnreadableFile(
            "This packed file is damaged",
            why="its checksum does not fit what it holds",
            do=_AGAIN,
            file=path,
        ) from error
    except InputError:
        raise
    except FOREIGN as error:
        raise UnreadableFile(
            "This packed file cannot be read", why=why_of(error), do=_AGAIN, file=path
        ) from error


class _Cut(Exception):
    """A part ends before its data do."""


def _header(stream: gzip.GzipFile, block: bytes) -> bytes:
    text = bytearray()
    while True:
        if len(block) < BLOCK:
            raise _Cut
        text += block
        cards = (block[n : n + 8] for n in range(0, BLOCK, 80))
        if any(c.rstrip() == b"END" for c in cards):
            return bytes(text)
        if len(text) >= _MOST_HEADER:
            raise ValueError("its header does not end")
        block = stream.read(BLOCK)


def _data(stream: gzip.GzipFile, size: int, whole: io.BytesIO | None) -> None:
    left = -(-size // BLOCK) * BLOCK
    missing = size
    while left:
        chunk = stream.read(min(left, _STEP))
        if not chunk:
            if missing > 0:
                raise _Cut
            chunk = bytes(left)  # some programs do not fill the last block
        left -= len(chunk)
        missing -= len(chunk)
        if whole is not None:
            whole.write(chunk)


def _drain(stream: gzip.GzipFile, read: int) -> None:
    """To the end of the file, where its checksum stands."""
    behind = read
    while chunk := stream.read(_STEP):
        behind += len(chunk)
        if behind > _MOST_BEHIND:
            raise ValueError("it unpacks to far more than its headers announce")

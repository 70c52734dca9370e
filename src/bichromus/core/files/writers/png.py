"""PNG with 16 bits a colour, packed as the bands come."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path
from typing import IO

import numpy as np

from .base import SOFTWARE, PictureFormat, Task


def _write(path: Path, task: Task) -> None:
    with open(path, "wb") as handle:
        _pack(handle, task)


def _pack(handle: IO[bytes], task: Task) -> None:
    shape = task.shape

    def chunk(kind: bytes, body: bytes) -> None:
        handle.write(
            struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
        )

    handle.write(b"\x89PNG\r\n\x1a\n")
    chunk(b"IHDR", struct.pack(">IIBBBBB", shape[1], shape[0], 16, 2, 0, 0, 0))
    name = task.space.title.encode("latin-1")
    chunk(b"iCCP", name + b"\0\0" + zlib.compress(task.profile))
    for keyword, words in (
        ("Title", task.imprint.title),
        ("Author", task.imprint.author_line),
        ("Description", task.imprint.description),
        ("Copyright", task.imprint.rights),
        ("Software", SOFTWARE),
    ):
        if words:
            chunk(b"iTXt", keyword.encode() + b"\0\0\0\0\0" + words.encode("utf-8"))
    chunk(b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + task.xmp)
    chunk(b"iTXt", b"Recipe\0\0\0\0\0" + task.recipe.encode("utf-8"))
    squeeze = zlib.compressobj(3)
    above = np.zeros((1, shape[1] * 6), np.uint8)
    for band in task.bands:
        rows = np.ascontiguousarray(band.astype(">u2")).view(np.uint8).reshape(band.shape[0], -1)
        previous = np.concatenate([above, rows[:-1]])
        filtered = np.empty((rows.shape[0], rows.shape[1] + 1), np.uint8)
        filtered[:, 0] = 2  # each row as its difference from the one above
        np.subtract(rows, previous, out=filtered[:, 1:])
        above = rows[-1:]
        packed = squeeze.compress(filtered.tobytes())
        if packed:
            chunk(b"IDAT", packed)
    chunk(b"IDAT", squeeze.flush())
    chunk(b"IEND", b"")


FORMATS = (
    PictureFormat(
        "png16",
        (".png",),
        "uint16",
        "PNG, 16 bits",
        "16 bits, compressed without loss",
        _write,
        order=30,
    ),
)

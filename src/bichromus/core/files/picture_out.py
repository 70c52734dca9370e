"""Finished pictures out, strip by strip: TIFF 16 and float, PNG 16, JPEG, FITS."""

from __future__ import annotations

import json
import struct
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Final

import numpy as np
import tifffile
from PIL import Image, ImageCms

from ..model.errors import UnknownName
from ..model.planes import Header
from .atomic import atomic
from .fits_out import fits_header

Bands = Iterator[np.ndarray]
"""Consecutive row bands (rows, W, 3) in the format's dtype."""


@dataclass(frozen=True)
class PictureFormat:
    """An output format: its file ending, the dtype that its bands have, and what it is in words."""

    id: str
    suffix: str
    dtype: str
    words: str


FORMATS: Final = {
    f.id: f
    for f in (
        PictureFormat("tiff16", ".tiff", "uint16", "TIFF, 16 bits"),
        PictureFormat("tiff32", ".tiff", "float32", "TIFF, 32-bit float"),
        PictureFormat("png16", ".png", "uint16", "PNG, 16 bits"),
        PictureFormat("jpeg", ".jpg", "uint8", "JPEG, to share"),
        PictureFormat("fits32", ".fits", "float32", "FITS, 32-bit float"),
    )
}


def blend_header(source: Header) -> Header:
    """What a blend keeps of a channel's header: the object and where in the sky it lies."""
    return Header(object_name=source.object_name, wcs=source.wcs)


def format_of(path: Path) -> PictureFormat:
    """The format that a file's ending asks for. Raises UnknownName."""
    by_suffix = {
        ".tif": "tiff16",
        ".tiff": "tiff16",
        ".png": "png16",
        ".jpg": "jpeg",
        ".jpeg": "jpeg",
        ".fits": "fits32",
        ".fit": "fits32",
        ".fts": "fits32",
    }
    found = by_suffix.get(path.suffix.lower())
    if found is None:
        raise UnknownName(
            "The ending of the output names no picture format",
            why=f"received {path.suffix or 'none'}",
            do="End the name in .tiff, .png, .jpg or .fits",
            file=path,
        )
    return FORMATS[found]


def write_picture(
    path: Path,
    fmt: PictureFormat,
    bands: Bands,
    shape: tuple[int, int],
    recipe: dict[str, Any],
    overwrite: bool = False,
    inputs: Iterable[Path] = (),
    header: Header | None = None,
    quality: int = 92,
) -> None:
    """Write a picture of ``shape`` (H, W) from its bands, atomically, and its recipe as JSON beside
    it.

    Raises OutputRefused, WriteFailed. The recipe also goes into the file where the format has a
    place for it.
    """
    text = json.dumps(recipe, ensure_ascii=False)
    writers: dict[str, Callable[[IO[bytes], Path], None]] = {
        "tiff16": lambda _h, p: _tiff(p, bands, shape, fmt.dtype, text),
        "tiff32": lambda _h, p: _tiff(p, bands, shape, fmt.dtype, text),
        "png16": lambda h, _p: _png(h, bands, shape, text),
        "jpeg": lambda h, _p: _jpeg(h, bands, shape, text, quality),
        "fits32": lambda h, _p: _fits(h, bands, shape, text, header or Header()),
    }
    beside = path.with_name(path.name + ".json")
    with atomic(path, overwrite, inputs) as partial:
        with open(partial, "wb") as handle:
            writers[fmt.id](handle, partial)
        with atomic(beside, overwrite=True) as partial_json:
            partial_json.write_text(
                json.dumps(recipe, indent=2, ensure_ascii=False) + "\n", "utf-8"
            )


def srgb_profile() -> bytes:
    """An sRGB profile."""
    return ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()


def _tiff(path: Path, bands: Bands, shape: tuple[int, int], dtype: str, text: str) -> None:
    # bare JSON would be taken for the layout that some readers keep there
    description = "recipe: " + text.encode("ascii", "backslashreplace").decode()
    with tifffile.TiffWriter(path, bigtiff=shape[0] * shape[1] * 12 > 3_900_000_000) as tif:
        place = tif.write(
            None,
            shape=(*shape, 3),
            dtype=dtype,
            photometric="rgb",
            rowsperstrip=64,
            iccprofile=srgb_profile(),
            description=description,
            metadata=None,
            software="Bichromus",
            returnoffset=True,
        )
    assert place is not None
    with open(path, "r+b") as handle:
        handle.seek(place[0])
        for band in bands:
            handle.write(np.ascontiguousarray(band).data)


def _png(handle: IO[bytes], bands: Bands, shape: tuple[int, int], text: str) -> None:
    def chunk(kind: bytes, body: bytes) -> None:
        handle.write(
            struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
        )

    handle.write(b"\x89PNG\r\n\x1a\n")
    chunk(b"IHDR", struct.pack(">IIBBBBB", shape[1], shape[0], 16, 2, 0, 0, 0))
    chunk(b"iCCP", b"sRGB\0\0" + zlib.compress(srgb_profile()))
    chunk(b"iTXt", b"Recipe\0\0\0\0\0" + text.encode("utf-8"))
    squeeze = zlib.compressobj(3)
    above = np.zeros((1, shape[1] * 6), np.uint8)
    for band in bands:
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


def _jpeg(handle: IO[bytes], bands: Bands, shape: tuple[int, int], text: str, quality: int) -> None:
    whole = np.empty((*shape, 3), np.uint8)
    y = 0
    for band in bands:
        whole[y : y + band.shape[0]] = band
        y += band.shape[0]
    comment = text.encode("utf-8")[:60000]
    Image.fromarray(whole).save(
        handle, "JPEG", quality=quality, subsampling=0, icc_profile=srgb_profile(), comment=comment
    )


def _fits(
    handle: IO[bytes], bands: Bands, shape: tuple[int, int], text: str, header: Header
) -> None:
    cards = fits_header(
        header, (3, *shape), ["Bichromus blend; values are sRGB-encoded, 0 to 1", text]
    )
    start = handle.write(cards.tostring().encode("ascii"))
    plane = shape[0] * shape[1] * 4
    y = 0
    for band in bands:
        for index in range(3):
            handle.seek(start + index * plane + y * shape[1] * 4)
            handle.write(band[..., index].astype(">f4").tobytes())
        y += band.shape[0]
    handle.seek(start + 3 * plane)
    handle.write(b"\0" * (-3 * plane % 2880))

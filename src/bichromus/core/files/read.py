"""Any picture file in: sniffed by its content, never by its name alone."""

from __future__ import annotations

import gzip
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

from ..model.errors import UnreadableFile, UnsupportedData
from ..model.planes import Header, Picture
from .fits_in import read_fits
from .headers import map_header


def read_picture(path: str | Path) -> Picture:
    """Read a picture as linear float32 data, (H, W) or (3, H, W). Integers stay counts.

    Single NaN or infinite pixels become NaN, with a warning. Raises UnreadableFile or
    UnsupportedData.
    """
    path = Path(path).absolute()
    kind = sniff(path)
    header, stored = Header(), np.empty(0)
    if kind == "fits":
        stored, header = read_fits(path)
    elif kind == "tiff":
        stored, header = _read_tiff(path)
    elif kind == "png":
        stored = _read_png(path)
    bits = 8 * stored.dtype.itemsize if stored.dtype.kind in "ui" else None
    data = _as_planes(stored, path)
    picture = _finish(Picture(data, _with_saturation(header, stored, data), path, bits))
    if bits == 8:
        picture = picture.with_warnings(
            f"{path.name} has only 8 bits: faint nebula will show steps."
        )
    return picture


def sniff(path: Path) -> str:
    """fits, tiff or png. Raises UnreadableFile for everything else, with the reason."""
    try:
        if path.is_dir():
            raise UnreadableFile(
                "This is a folder, not a picture", do="Choose the files inside it", file=path
            )
        with open(path, "rb") as handle:
            head = handle.read(32)
        if head[:2] == b"\x1f\x8b":
            with gzip.open(path, "rb") as handle:
                head = handle.read(32)
    except FileNotFoundError as error:
        raise UnreadableFile(
            "There is no such file", do="Check the name and the disk", file=path
        ) from error
    except (OSError, EOFError) as error:
        why = getattr(error, "strerror", None) or str(error)
        raise UnreadableFile(
            "This file cannot be opened",
            why=why.lower(),
            do="Check its rights and the disk",
            file=path,
        ) from error
    if not head:
        raise UnreadableFile("This file is empty", do="Copy it again from where it came", file=path)
    if head.startswith(b"SIMPLE  ="):
        return "fits"
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return "tiff"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "png"
    if head.startswith(b"\xff\xd8\xff"):
        raise UnsupportedData(
            "A JPEG is a finished picture, not data to measure",
            do="Give the linear stack as FITS, TIFF or 16-bit PNG",
            file=path,
        )
    raise UnreadableFile(
        "This is not a picture that can be read",
        why="neither FITS, TIFF nor PNG",
        do="Save the stack in one of these formats",
        file=path,
    )


def _read_tiff(path: Path) -> tuple[np.ndarray, Header]:
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
        {str(k).upper(): v for k, v in cards.items() if isinstance(v, (str, int, float))}
    )


def _read_png(path: Path) -> np.ndarray:
    data = cv2.imdecode(np.fromfile(path, np.uint8), cv2.IMREAD_UNCHANGED)
    if data is None:
        raise UnreadableFile(
            "This PNG file cannot be read",
            why="it is cut short or damaged",
            do="Copy it again from where it came",
            file=path,
        )
    stored = np.asarray(data)
    return np.moveaxis(stored[..., 2::-1], -1, 0) if stored.ndim == 3 else stored


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
    if not good or min(data.shape[-2:]) < 16:
        what = " x ".join(map(str, shape))
        raise UnsupportedData(
            "This picture has the wrong shape",
            why=f"{what}, not one plane or three",
            do="Give a mono plane or a colour stack of at least 16 x 16 pixels",
            file=path,
        )
    with np.errstate(over="ignore", invalid="ignore"):
        return np.ascontiguousarray(data, np.float32)


def _finish(picture: Picture) -> Picture:
    data, path = picture.data, picture.file
    good = np.isfinite(data)
    bad = data.size - int(np.count_nonzero(good))
    if bad == data.size:
        raise UnsupportedData(
            "There is no finite value in this picture", do="Stack it again", file=path
        )
    planes = data if picture.colour else data[None]
    for name, plane, fine in zip(
        "RGB" if picture.colour else " ", planes, good.reshape(planes.shape), strict=True
    ):
        if not np.any(plane[fine]):
            which = f"plane {name}" if picture.colour else "every pixel"
            raise UnsupportedData(
                "This picture is empty", why=f"{which} is zero", do="Stack it again", file=path
            )
    if bad:
        data[~good] = np.nan
        return picture.with_warnings(f"{bad:,} pixels without a finite value are left out.")
    return picture


def _with_saturation(header: Header, stored: np.ndarray, data: np.ndarray) -> Header:
    if header.saturation is not None:
        return header
    top: float | None = None
    if stored.dtype.kind in "ui":
        top = float(np.iinfo(stored.dtype).max)
    else:
        finite = data[np.isfinite(data)]
        if finite.size and float(finite.min()) >= -0.1 and float(finite.max()) <= 1.0:
            top = 1.0
    return replace(header, saturation=top)

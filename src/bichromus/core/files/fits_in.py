"""FITS in: every usual form, whole or by rows."""

from __future__ import annotations

import contextlib
import io
from pathlib import Path
from types import SimpleNamespace
from typing import IO, Any

import numpy as np

from ..model.errors import BichromusError, UnreadableFile, UnsupportedData
from ..model.planes import Header
from .astropy_fits import astropy_fits
from .fits_packed import data_bytes, each_header, is_packed, require_end, unpacked
from .foreign import FOREIGN, cards_of, check_room, why_of
from .headers import map_header

_DAMAGED = "Copy the file again from where it came"
_WRONG_SUM, _NO_SUM = 0, 2
"""What looking at a checksum may come to: wrong, or none there (1 is right)."""


def read_fits(path: Path) -> tuple[np.ndarray, Header]:
    """Data as stored (integers with BZERO and BSCALE applied) and the header of the first picture
    in the file.
    """
    try:
        whole = unpacked(path) if is_packed(path) else None
        if whole is None:
            require_end(path)
        with (
            whole or open(path, "rb") as handle,
            astropy_fits().open(handle, memmap=False, lazy_load_hdus=True) as hdus,
        ):
            hdu = first_picture(hdus, path)
            if whole is None:
                _check_length(hdu, path)
            check_room(tuple(hdu.shape), abs(int(hdu.header["BITPIX"])) // 8, path)
            if isinstance(hdu, astropy_fits().CompImageHDU):
                _check_tiles(io.BytesIO(whole.getvalue()) if whole is not None else path, path)
            data = np.asarray(hdu.data)
            return data, header_of(hdu, hdus[0])
    except BichromusError:
        raise
    except FOREIGN as error:
        raise UnreadableFile(
            "This FITS file cannot be read", why=why_of(error), do=_DAMAGED, file=path
        ) from error


def _check_tiles(where: IO[bytes] | Path, path: Path) -> None:
    """Raises UnreadableFile where the packed tiles of a picture are not what their checksum says: a
    damaged one unpacks to light that was never there.
    """
    with astropy_fits().open(
        where, memmap=False, lazy_load_hdus=True, disable_image_compression=True
    ) as hdus:
        found = next((h.verify_datasum() for h in hdus if h.header.get("ZIMAGE")), _NO_SUM)
        if found == _WRONG_SUM:
            raise UnreadableFile(
                "This packed file is damaged",
                why="its checksum does not fit what it holds",
                do=_DAMAGED,
                file=path,
            )


def read_fits_header(path: Path) -> Header:
    """The header alone, without the data; an empty one where the file cannot be read."""
    with contextlib.suppress(FOREIGN):
        if is_packed(path):
            return _packed_header(path)
        require_end(path)
        with (
            open(path, "rb") as handle,
            astropy_fits().open(handle, lazy_load_hdus=True) as hdus,
        ):
            return header_of(first_picture(hdus, path), hdus[0])
    return Header()


def _packed_header(path: Path) -> Header:
    """The header of the first picture in a packed file; nothing behind it is unpacked."""
    first: Any = None
    for header in each_header(path):
        first = header if first is None else first
        if data_bytes(header):
            return header_of(SimpleNamespace(header=header), SimpleNamespace(header=first))
    return Header()


def raw_rows(path: Path) -> np.ndarray | None:
    """A read-only map of the data where it can be used in place: uncompressed, float32 or float64,
    unscaled.

    None for every other form, which must be read whole.
    """
    if path.suffix.lower() == ".gz":
        return None
    with contextlib.suppress(FOREIGN), astropy_fits().open(path, memmap=True) as hdus:
        hdu = first_picture(hdus, path)
        card = hdu.header
        if (
            isinstance(hdu, astropy_fits().CompImageHDU)
            or card["BITPIX"] > 0
            or "BSCALE" in card
            or "BZERO" in card
        ):
            return None
        kind = ">f4" if card["BITPIX"] == -32 else ">f8"
        shape = tuple(card[f"NAXIS{n}"] for n in range(card["NAXIS"], 0, -1))
        return np.memmap(path, dtype=kind, mode="r", offset=hdu.fileinfo()["datLoc"], shape=shape)
    return None


def first_picture(hdus: Any, path: Path) -> Any:
    """The first part of a file that holds a picture. Raises UnsupportedData."""
    for hdu in hdus:
        if (
            getattr(hdu, "is_image", False)
            and hdu.header.get("NAXIS", 0) >= 1
            and 0 not in hdu.shape
        ):
            if not 2 <= len(hdu.shape) <= 4:
                raise UnsupportedData(
                    "This is not a picture",
                    why=f"its data have {len(hdu.shape)} dimension(s)",
                    do="Give a plane or three colour planes",
                    file=path,
                )
            return hdu
    raise UnsupportedData(
        "There is no picture in this file", do="Choose a file with image data", file=path
    )


def _check_length(hdu: Any, path: Path) -> None:
    if path.suffix.lower() == ".gz" or isinstance(hdu, astropy_fits().CompImageHDU):
        return
    place = hdu.fileinfo()
    if place is None:
        return
    cells = int(np.prod([hdu.header[f"NAXIS{n + 1}"] for n in range(hdu.header["NAXIS"])]))
    needed = place["datLoc"] + abs(hdu.header["BITPIX"]) // 8 * cells
    size = path.stat().st_size
    if size < needed:
        raise UnreadableFile(
            "This FITS file is cut short",
            why=f"{size:,} of {needed:,} bytes are there",
            do=_DAMAGED,
            file=path,
        )


def header_of(hdu: Any, primary: Any) -> Header:
    """Header of a picture; what an extension does not say is taken from the primary header."""
    cards: dict[str, Any] = {}
    for source in (primary.header, hdu.header):
        cards |= cards_of(source)
    history: tuple[str, ...] = ()
    with contextlib.suppress(FOREIGN):
        history = tuple(str(line) for line in hdu.header.get("HISTORY", []))
    return map_header(cards, history)

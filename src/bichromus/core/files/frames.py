"""Single exposures read in parts: a region, or the whole made smaller, without taking the file into
memory.
"""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Header, Picture
from .astropy_fits import astropy_fits
from .fits_in import first_picture, header_of
from .fits_packed import require_end
from .foreign import FOREIGN, require_file
from .read import read_picture

_BAND: Final = 512
_KINDS: Final = {8: ">u1", 16: ">i2", 32: ">i4", -32: ">f4", -64: ">f8"}


@dataclass(frozen=True)
class Frame:
    """Planes (N, H, W) as stored, mapped or in memory; ``value = stored * scale + zero``.

    What comes out is one plane: of a colour picture the mean of its planes. A value that is not
    finite comes out as NaN.
    """

    path: Path
    stored: np.ndarray
    scale: float
    zero: float
    header: Header

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width."""
        return int(self.stored.shape[-2]), int(self.stored.shape[-1])

    @property
    def cell(self) -> int:
        """Side of the cell that holds all colours: 2 in a mosaic, else 1."""
        return 2 if self.header.bayer and len(self.stored) == 1 else 1

    def region(self, y0: int, y1: int, x0: int = 0, x1: int | None = None) -> F32:
        """A part of the plane as float32; what lies outside is cut off."""
        y0, x0 = max(y0, 0), max(x0, 0)
        parts = self.stored[:, y0 : max(y1, y0), x0:x1]
        plane = parts[0].astype(np.float32) if len(parts) == 1 else parts.mean(0, dtype=np.float32)
        if (self.scale, self.zero) != (1.0, 0.0):
            plane *= np.float32(self.scale)
            plane += np.float32(self.zero)
        return plane

    def sparse(self, step: int) -> F32:
        """Every few pixels of every few rows, for a median."""
        return self.stored[0, ::step, ::step].astype(np.float32) * np.float32(
            self.scale
        ) + np.float32(self.zero)

    def reduced(
        self, factor: int, y0: int = 0, y1: int | None = None, x0: int = 0, x1: int | None = None
    ) -> F32:
        """A part made ``factor`` times smaller by means of whole cells; what fills no cell is cut
        off.
        """
        y1, x1 = min(y1 or self.shape[0], self.shape[0]), min(x1 or self.shape[1], self.shape[1])
        high, wide = (y1 - y0) // factor, (x1 - x0) // factor
        if factor == 1:
            return self.region(y0, y1, x0, x1)
        out = np.empty((high, wide), np.float32)
        step = max(_BAND // factor, 1)
        for first in range(0, high, step):
            last = min(first + step, high)
            part = self.region(y0 + first * factor, y0 + last * factor, x0, x0 + wide * factor)
            out[first:last] = cv2.resize(part, (wide, last - first), interpolation=cv2.INTER_AREA)
        return out


def open_frame(path: Path) -> Frame:
    """Map a file where it can be used in place, else read it whole. Raises UnreadableFile,
    UnsupportedData.
    """
    require_file(path)
    mapped = mapped_frame(path)
    if mapped is not None:
        return mapped
    picture: Picture = read_picture(path)
    data = picture.data if picture.colour else picture.data[None]
    return Frame(path, data, 1.0, 0.0, picture.header)


def mapped_frame(path: Path) -> Frame | None:
    """A frame of a file that can be used in place, without reading it; None for any other."""
    if path.suffix.lower() == ".gz":
        return None
    with contextlib.suppress(FOREIGN):
        require_end(path)
        return _mapped(path)
    return None


def _mapped(path: Path) -> Frame | None:
    with (
        open(path, "rb") as handle,
        astropy_fits().open(handle, memmap=False, lazy_load_hdus=True) as hdus,
    ):
        hdu = first_picture(hdus, path)
        card = hdu.header
        kind = _KINDS.get(card["BITPIX"])
        shape = tuple(int(card[f"NAXIS{n}"]) for n in range(card["NAXIS"], 0, -1))
        planes = (1, *shape) if len(shape) == 2 else shape
        if (
            kind is None
            or isinstance(hdu, astropy_fits().CompImageHDU)
            or len(planes) != 3
            or planes[0] not in (1, 3)
        ):
            return None
        place = hdu.fileinfo()["datLoc"]
        if (
            path.stat().st_size < place + int(np.prod(planes)) * np.dtype(kind).itemsize
            or min(planes[1:]) < 16
        ):
            return None  # the reader of whole files says what is wrong
        stored = np.memmap(path, dtype=kind, mode="r", offset=place, shape=planes)
        scale, zero = float(card.get("BSCALE", 1.0)), float(card.get("BZERO", 0.0))
        header = header_of(hdu, hdus[0])
        if header.saturation is None and card["BITPIX"] in (8, 16):
            header = replace(header, saturation=float(np.iinfo(kind).max) * scale + zero)
        return Frame(path, stored, scale, zero, header)

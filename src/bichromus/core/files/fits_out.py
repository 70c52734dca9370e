"""FITS out: float32 planes with their history."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from ..model.planes import F32, Header
from .astropy_fits import astropy_fits
from .atomic import atomic

_KEYS = {
    "exposure_s": "EXPTIME",
    "total_s": "TOTEXP",
    "subs": "NCOMBINE",
    "camera": "INSTRUME",
    "telescope": "TELESCOP",
    "station": "OBSERVER",
    "object_name": "OBJECT",
    "date_utc": "DATE-OBS",
    "end_utc": "DATE-END",
    "pixel_um": "XPIXSZ",
    "focal_mm": "FOCALLEN",
    "gain": "GAIN",
    "temperature_c": "CCD-TEMP",
    "saturation": "SATURATE",
}


def fits_header(
    header: Header,
    shape: tuple[int, ...],
    history: Iterable[str] = (),
    more: Mapping[str, Any] | None = None,
) -> Any:
    """A primary header of astropy for float32 data of ``shape``, with what the model knows, WCS and
    history.
    """
    out = astropy_fits().Header()
    out["SIMPLE"], out["BITPIX"], out["NAXIS"] = True, -32, len(shape)
    for number, size in enumerate(reversed(shape), 1):
        out[f"NAXIS{number}"] = size
    if header.filter is not None:
        out["FILTER"] = header.filter.text
    for name, key in _KEYS.items():
        value = getattr(header, name)
        if value is not None:
            out[key] = value
    for key, value in (*header.wcs, *(more or {}).items()):
        out[key] = value
    for line in (*header.history, *history):
        out["HISTORY"] = ascii_line(line)
    return out


def write_fits(
    path: Path,
    data: F32,
    header: Header,
    history: Iterable[str] = (),
    overwrite: bool = False,
    inputs: Iterable[Path] = (),
    more: Mapping[str, Any] | None = None,
) -> None:
    """Write float32 data (H, W) or (3, H, W) atomically. Raises OutputRefused, WriteFailed."""
    cards = fits_header(header, data.shape, history, more)
    with atomic(path, overwrite, inputs) as partial, open(partial, "wb") as handle:
        handle.write(cards.tostring().encode("ascii"))
        rows = data.reshape(-1, data.shape[-1])
        for start in range(0, rows.shape[0], 1024):
            handle.write(rows[start : start + 1024].astype(">f4").tobytes())
        handle.write(b"\0" * (-4 * data.size % 2880))


def ascii_line(text: str) -> str:
    """Words as a card may hold them."""
    return text.encode("ascii", "replace").decode("ascii").replace("\n", " ")

"""Keywords of files mapped to the model."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Final

from ..model.channel import filter_name
from ..model.planes import Header
from ..model.visible import visible

_PARTS: Final = re.compile(r"\s*([+-]?)(\d+)[\s:]+(\d+)(?:[\s:]+(\d+(?:\.\d*)?))?\s*")
_TEXT: Final = {
    "camera": ("INSTRUME", "CAMERA"),
    "telescope": ("TELESCOP",),
    "station": ("OBSERVER", "STATION"),
    "object_name": ("OBJECT",),
    "date_utc": ("DATE-OBS", "DATE-BEG"),
    "end_utc": ("DATE-END",),
}
_NUMBER: Final = {
    "exposure_s": ("EXPTIME", "EXPOSURE"),
    "total_s": ("TOTEXP", "TOTALEXP", "EXPTOTAL"),
    "pixel_um": ("XPIXSZ", "PIXSIZE", "PIXSIZE1"),
    "focal_mm": ("FOCALLEN", "FOCAL"),
    "gain": ("GAIN",),
    "temperature_c": ("CCD-TEMP", "CCDTEMP"),
    "saturation": ("SATURATE", "DATAMAX"),
}
_WCS: Final = re.compile(
    r"(CTYPE|CRVAL|CRPIX|CDELT|CUNIT|CROTA)\d|(CD|PC)\d_\d|(A|B|AP|BP)_(\d_\d|ORDER)|RADESYS|EQUINOX|WCSAXES"
    r"|LONPOLE|LATPOLE|ROWORDER"
)


def map_header(cards: Mapping[str, Any], history: tuple[str, ...] = ()) -> Header:
    """The model's header from keywords. Numbers written as text are understood; nonsense counts as
    missing.
    """
    values: dict[str, Any] = {}
    for name, keys in _TEXT.items():
        values[name] = _first(cards, keys, _text)
    for name, keys in _NUMBER.items():
        values[name] = _first(cards, keys, _number)
    count = _first(cards, ("NCOMBINE", "NSUBS"), _number)
    values["subs"] = int(count) if count and count >= 1 else None
    for name in ("exposure_s", "total_s", "pixel_um", "focal_mm", "saturation"):
        if values[name] is not None and values[name] <= 0:
            values[name] = None
    if values["total_s"] is None and values["exposure_s"] is not None:
        values["total_s"] = values["exposure_s"] * (values["subs"] or 1)
    text = _first(cards, ("FILTER", "FILTNAME"), _text)
    values["filter"] = filter_name(text) if text else None
    bayer = _first(cards, ("BAYERPAT",), _text)
    values["bayer"] = bayer.upper() if bayer and re.fullmatch("[RGB]{4}", bayer.upper()) else None
    values["wcs"] = tuple((k, v) for k, v in cards.items() if _WCS.fullmatch(k))
    return Header(history=history, **values)


def _first(cards: Mapping[str, Any], keys: tuple[str, ...], read: Any) -> Any:
    for key in keys:
        if key in cards:
            value = read(cards[key])
            if value is not None:
                return value
    return None


def first_text(cards: Mapping[str, Any], keys: tuple[str, ...]) -> str | None:
    """The first of some keywords that says anything."""
    return _first(cards, keys, _text)


def first_number(cards: Mapping[str, Any], keys: tuple[str, ...]) -> float | None:
    """The first of some keywords that holds a number."""
    return _first(cards, keys, _number)


def _text(value: Any) -> str | None:
    return visible(str(value).strip()) or None


def _number(value: Any) -> float | None:
    try:
        number = float(str(value).strip())
    except ValueError:
        return None
    return number if number == number and abs(number) != float("inf") else None


def first_angle(
    cards: Mapping[str, Any], keys: tuple[str, ...], unit_deg: float = 1.0
) -> float | None:
    """The first of some keywords that holds an angle, in degrees: a number as it is, or text in
    parts (``170 27 36``) of units of so many degrees (15 for hours).
    """

    def read(value: Any) -> float | None:
        number = _number(value)
        if number is not None:
            return number
        parts = _PARTS.fullmatch(str(value))
        if parts is None:
            return None
        size = int(parts[2]) + int(parts[3]) / 60 + float(parts[4] or 0) / 3600
        return (-size if parts[1] == "-" else size) * unit_deg

    return _first(cards, keys, read)

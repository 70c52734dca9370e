"""Headers of single exposures, quickly: only the first blocks of a file are read."""

from __future__ import annotations

import contextlib
import datetime as dt
import re
from pathlib import Path
from typing import IO, Any, Final

from ..model.errors import InputError, UnreadableFile
from ..model.log_columns import READ
from ..model.sub import SubHeader, kind_of, sub_filter
from .astropy_fits import astropy_fits
from .fits_packed import data_bytes, is_packed, packed_headers
from .foreign import FOREIGN, cards_of, require_file, why_of
from .headers import first_angle, first_number, first_text, map_header
from .pointing import pointing

SUFFIXES: Final = (".fits", ".fit", ".fts")
FILTER: Final = ("FILTER", "FILTNAME")
SECONDS: Final = ("EXPTIME", "EXPOSURE")
"""Keywords, the first that is there."""
_YEARS: Final = range(1900, 2200)
"""Years in which somebody may have shot; another one is a clock that was never set."""
_MOST_DAYS: Final = 120_000
_MJD_EPOCH: Final = dt.datetime(1858, 11, 17, tzinfo=dt.UTC)


def is_sub_file(path: Path) -> bool:
    """By its ending, in any case, also with .gz."""
    name = path.name.lower()
    return name.removesuffix(".gz").endswith(SUFFIXES)


def read_sub(path: Path) -> tuple[str, SubHeader | None, str]:
    """Kind, header (of lights only) and the word for the kind. Raises UnreadableFile for what is
    broken.
    """
    cards = read_cards(path)
    word = first_text(cards, ("IMAGETYP", "FRAME")) or ""
    kind = kind_of(word)
    if kind != "light":
        return kind, None, word
    start = start_of(cards)
    seconds = first_number(cards, SECONDS)
    if start is None or seconds is None or seconds <= 0:
        raise UnreadableFile(
            "This sub tells too little",
            why="it has no start" if start is None else "it has no seconds above 0",
            do="Mend its header",
            file=path,
        )
    text = {
        name: first_text(cards, (key,)) or ""
        for name, key in (
            ("object_name", "OBJECT"),
            ("observer", "OBSERVER"),
            ("telescope", "TELESCOP"),
            ("camera", "INSTRUME"),
        )
    }
    return (
        kind,
        SubHeader(
            start,
            seconds,
            sub_filter(first_text(cards, FILTER), "BAYERPAT" in cards),
            figures={c.id: first_number(cards, c.keywords) for c in READ},
            longitude=_longitude(cards),
            scale_arcsec=map_header(cards).scale_arcsec,
            **text,
        ),
        word,
    )


def read_position(path: Path) -> tuple[float, float] | None:
    """Where a sub looked (J2000 degrees); None where it does not tell. Raises UnreadableFile."""
    return pointing(read_cards(path))


def read_cards(path: Path) -> dict[str, Any]:
    """Keywords of the primary header, or of the first picture; checks that the file is whole."""
    require_file(path)
    try:
        if is_packed(path):
            return _of_packed(path)
        with open(path, "rb") as handle:
            return _read(handle, path)
    except InputError:
        raise
    except FOREIGN as error:
        raise UnreadableFile(
            "This file cannot be read",
            why=why_of(error),
            do="Copy it again from where it came",
            file=path,
        ) from error


def _of_packed(path: Path) -> dict[str, Any]:
    cards: dict[str, Any] = {}
    headers = packed_headers(path)
    if not headers:
        raise _no_fits(path)
    for header in headers:
        cards = cards_of(header) | cards
        if data_bytes(header):
            break
    return cards


def _no_fits(path: Path) -> UnreadableFile:
    return UnreadableFile(
        "This is not a FITS file",
        why="it begins otherwise",
        do="Take it out of the folder",
        file=path,
    )


def _read(handle: IO[bytes], path: Path) -> dict[str, Any]:
    cards: dict[str, Any] = {}
    size = handle.seek(0, 2)
    handle.seek(0)
    if handle.read(9) != b"SIMPLE  =":
        raise _no_fits(path)
    handle.seek(0)
    place = 0
    while True:
        header = astropy_fits().Header.fromfile(handle, padding=False)
        place = _after(handle)
        cards = cards_of(header) | cards
        data = data_bytes(header)
        if place + data > size:
            raise UnreadableFile(
                "This file is cut short",
                why=f"{size:,} of {place + data:,} bytes are there",
                do="Copy it again from where it came",
                file=path,
            )
        place += -(-data // 2880) * 2880
        if data or place >= size:
            return cards
        handle.seek(place)


def _after(handle: IO[bytes]) -> int:
    """Where the data begin: headers fill whole blocks."""
    return -(-handle.tell() // 2880) * 2880


def start_of(cards: dict[str, Any]) -> dt.datetime | None:
    date = first_text(cards, ("DATE-OBS",))
    time = first_text(cards, ("TIME-OBS",))
    candidates = [
        f"{date}T{time}" if date and time and "T" not in date else date,
        first_text(cards, ("DATE-BEG",)),
    ]
    for text in candidates:
        with contextlib.suppress(ValueError):
            if text and "T" in text:
                text = re.sub(r"(\.\d{6})\d+", r"\1", text.replace("Z", "+00:00"))
                found = dt.datetime.fromisoformat(text)
                if found.year in _YEARS:
                    zoned = found if found.tzinfo else found.replace(tzinfo=dt.UTC)
                    return zoned.astimezone(dt.UTC)
    days = first_number(cards, ("MJD-OBS",))
    return _MJD_EPOCH + dt.timedelta(days=days) if days and abs(days) < _MOST_DAYS else None


def _longitude(cards: dict[str, Any]) -> float | None:
    """Decimal degrees or in parts, east positive."""
    for key in ("SITELONG", "LONG-OBS"):
        value = first_angle(cards, (key,))
        if value is not None and -180 <= value <= 360:
            return value
    return None

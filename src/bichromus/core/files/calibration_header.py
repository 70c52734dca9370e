"""What the header of a flat, a dark or a light tells of what it fits."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Final, Literal

from ..model.log_columns import COLUMNS
from ..model.sub import sub_filter
from .headers import first_number, first_text
from .sub_header import FILTER, SECONDS, read_cards, start_of

CalibrationKind = Literal["flat", "dark", "bias", "light"]
_ANGLE: Final = ("ROTATANG", "ROTATOR", "ROTANGLE", "OBJCTROT", "POSANGLE")
_AIR: Final = ("AMBTEMP", "AMB-TEMP", "AMBIENT", "AIRTEMP", "OUTTEMP", "FOCTEMP", "FOCUSTEM")
_KEYWORDS: Final = {c.id: c.keywords for c in COLUMNS}


@dataclass(frozen=True)
class CalibrationHeader:
    """Kind, channels of the filter (joined by ``+``), seconds, gain, sensor in degrees Celsius,
    rotator angle in degrees, camera and start; None or empty where the header does not tell.
    """

    kind: CalibrationKind
    filter: str = ""
    seconds: float | None = None
    gain: float | None = None
    temperature_c: float | None = None
    angle: float | None = None
    camera: str = ""
    start: dt.datetime | None = None


def calibration_kind(word: str) -> CalibrationKind | None:
    """From the word that a header has for a frame; None for a light, a stack of lights or a dark of
    flats.
    """
    plain = re.sub(r"[\s_-]|frame|master|image", "", word.lower())
    if plain in ("flat", "flatfield", "skyflat", "twilightflat"):
        return "flat"
    if plain == "dark":
        return "dark"
    return "bias" if plain in ("bias", "offset", "zero") else None


def air_of(path: Path) -> float | None:
    """The air at the telescope, degrees Celsius, where a frame's header tells it: of a weather
    station, else of the focuser. Raises UnreadableFile.
    """
    return first_number(read_cards(path), _AIR)


def read_calibration(path: Path, kind: CalibrationKind) -> CalibrationHeader:
    """The header of a frame. Raises UnreadableFile."""
    cards = read_cards(path)
    found = sub_filter(first_text(cards, FILTER), "BAYERPAT" in cards)
    return CalibrationHeader(
        kind,
        "+".join(found.lines) or (found.text if found.text != "none" else ""),
        first_number(cards, SECONDS),
        first_number(cards, _KEYWORDS["gain"]),
        first_number(cards, _KEYWORDS["temperature_c"]),
        first_number(cards, _ANGLE),
        first_text(cards, ("INSTRUME",)) or "",
        start_of(cards),
    )

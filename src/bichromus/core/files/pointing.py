"""Where a sub looked, as its header tells."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

from .headers import first_angle, first_number, first_text

_RA: Final = ("RA", "OBJCTRA", "RA_OBJ")
_DEC: Final = ("DEC", "OBJCTDEC", "DEC_OBJ")


def pointing(cards: Mapping[str, Any]) -> tuple[float, float] | None:
    """J2000 right ascension and declination in degrees; None where the header does not tell.
    Figures are degrees, text in parts is hours and degrees.
    """
    found = first_angle(cards, _RA, 15.0), first_angle(cards, _DEC)
    if found[0] is None or found[1] is None or not -90 <= found[1] <= 90:
        return _from_map(cards)
    return found[0] % 360, found[1]


def _from_map(cards: Mapping[str, Any]) -> tuple[float, float] | None:
    """From a map of the sky, where its reference lies in the frame."""
    if not (first_text(cards, ("CTYPE1",)) or "").startswith("RA"):
        return None
    ra, dec = first_number(cards, ("CRVAL1",)), first_number(cards, ("CRVAL2",))
    return None if ra is None or dec is None else (ra % 360, dec)

"""Search a catalogue of deep-sky objects by designation.

The data are those that PyOngc carries (CC BY-SA 4.0), read in place and read-only; the package
itself is not imported.
"""

from __future__ import annotations

import contextlib
import math
import re
import sqlite3
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from typing import Final

from ..model.errors import InputError

SOURCE = "OpenNGC data, CC BY-SA 4.0"
_KINDS = {
    "G": "galaxy",
    "Neb": "nebula",
    "PN": "planetary nebula",
    "OCl": "open cluster",
    "GCl": "globular cluster",
    "Cl+N": "cluster with nebula",
    "HII": "ionised region",
    "SNR": "supernova remnant",
    "EmN": "emission nebula",
    "RfN": "reflection nebula",
    "DrkN": "dark nebula",
}


LARGE: Final = {
    "IC 405": (37, 19),
    "IC 410": (40, 30),
    "IC 434": (90, 30),
    "IC 443": (50, 40),
    "IC 1318": (150, 90),
    "IC 1396": (170, 140),
    "IC 1805": (150, 150),
    "IC 1848": (150, 75),
    "IC 2118": (180, 60),
    "IC 2177": (120, 40),
    "IC 2944": (75, 60),
    "IC 4628": (90, 60),
    "IC 5070": (80, 70),
    "NGC 281": (35, 30),
    "NGC 1499": (160, 40),
    "NGC 2237": (80, 60),
    "NGC 2264": (60, 30),
    "NGC 6188": (60, 40),
    "NGC 6334": (40, 30),
    "NGC 6357": (60, 45),
    "NGC 6960": (70, 6),
    "NGC 6992": (60, 8),
    "NGC 7000": (120, 100),
    "NGC 7380": (30, 25),
    "NGC 7822": (100, 90),
}
"""Large emission regions of which the catalogue gives no size, or that of a cluster in them:
arcminutes, about.
"""
_LISTED = {"m": "M", "messier": "M", "c": "C", "caldwell": "C"}
"""Lists of which numbers stand in columns of their own."""


@dataclass(frozen=True)
class CatalogueObject:
    """One object: J2000 degrees, size in arcminutes (None where unknown), position angle of the
    long side.
    """

    name: str
    kind: str
    ra: float
    dec: float
    size_arcmin: tuple[float, float] | None
    angle: float
    aliases: tuple[str, ...]


def database() -> Path:
    """Where the data lie. Raises InputError when they are not installed."""
    spec = find_spec("pyongc")
    found = Path(spec.origin).with_name("ongc.db") if spec is not None and spec.origin else None
    if found is None or not found.is_file():
        raise InputError(
            "The catalogue is not installed", do="Run ./run setup, or type the target's position"
        )
    return found


def search(text: str, most: int = 20) -> list[CatalogueObject]:
    """Objects whose designation is, or begins with, what was typed; exact ones first."""
    match = re.fullmatch(r"\s*([A-Za-z]*)[\s-]*0*(\d*)\s*(.*?)\s*", text)
    letters, digits, rest = match.groups() if match else ("", "", text)
    if not digits and len(letters + rest) < 2:
        return []
    pattern = f"{letters}{int(digits):04d}%" if digits else f"{letters}%"
    wide = f"%{text.strip()}%"
    listed = _LISTED.get(letters.lower()) if digits else None
    number = f"{int(digits):03d}" if digits else ""
    messier = number if listed == "M" else None
    other = f"%,C {number},%" if listed == "C" else None
    query = (
        "SELECT name, type, ra, dec, majax, minax, pa, identifiers, commonnames FROM objects "
        "WHERE ra IS NOT NULL AND (messier = ? OR ',' || identifiers || ',' LIKE ? "
        "OR name = ? OR name LIKE ? OR commonnames LIKE ? OR identifiers LIKE ?) "
        "ORDER BY messier IS ? DESC, ',' || identifiers || ',' LIKE ? DESC, "
        "name LIKE ? DESC, length(name), name LIMIT ?"
    )
    with contextlib.closing(
        sqlite3.connect(f"{database().absolute().as_uri()}?mode=ro", uri=True)
    ) as db:
        own = f"C{number}" if listed == "C" else None
        words = (messier, other, own, pattern, wide, wide, messier or "-", other, pattern, most)
        rows = db.execute(query, words).fetchall()
    return [_entry(row) for row in rows]


def _entry(row: tuple[object, ...]) -> CatalogueObject:
    name, kind, ra, dec, major, minor, angle, identifiers, common = row
    spaced = _spaced(str(name))
    size = (float(str(major)), float(str(minor or major))) if major else None
    aliases = tuple(
        a.strip()
        for words in (common, identifiers)
        for a in str(words or "").split(",")
        if a.strip()
    )
    return CatalogueObject(
        spaced,
        _KINDS.get(str(kind), "object"),
        math.degrees(float(str(ra))) % 360,
        math.degrees(float(str(dec))),
        LARGE.get(spaced, size),
        float(str(angle or 0)),
        aliases[:6],
    )


def _spaced(name: str) -> str:
    match = re.fullmatch(r"([A-Za-z]+)0*(\d+)(.*)", name)
    return f"{match[1]} {match[2]}{match[3]}" if match else name

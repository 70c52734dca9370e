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
from .kinds import KIND_OF, Kind

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


LARGE: Final = (
    (0.9, 67.16, 100, 90),
    (13.25, 56.62, 35, 30),
    (38.17, 61.46, 150, 150),
    (42.79, 60.4, 150, 75),
    (60.81, 36.37, 160, 40),
    (76.23, -7.27, 180, 60),
    (79.12, 34.36, 37, 19),
    (80.67, 33.37, 40, 30),
    (85.25, -2.45, 90, 30),
    (94.16, 22.53, 50, 40),
    (97.73, 5.05, 80, 60),
    (100.24, 9.9, 60, 30),
    (106.15, -10.47, 120, 40),
    (173.95, -63.02, 75, 60),
    (250.02, -48.66, 60, 40),
    (254.24, -40.45, 90, 60),
    (260.21, -36.1, 40, 30),
    (261.18, -34.2, 60, 45),
    (311.49, 30.6, 70, 6),
    (312.75, 44.4, 80, 70),
    (314.08, 31.74, 60, 8),
    (314.82, 44.53, 120, 100),
    (324.74, 57.49, 170, 140),
    (341.84, 58.13, 30, 25),
)
"""Large emission regions of which the catalogue gives no size, or that of a cluster in them: J2000
degrees, then long and short axis in arcminutes, about.
"""
_NEAR_DEG: Final = 0.1
LISTS: Final = {"m": "M", "messier": "M", "ngc": "NGC", "ic": "IC", "c": "C", "caldwell": "C"}
"""How people begin a designation, and how it is written."""


@dataclass(frozen=True)
class CatalogueObject:
    """One object: what the catalogue calls it and the kind of target that it is, J2000 degrees,
    size in arcminutes (None where unknown), position angle of the long side.
    """

    name: str
    kind: str
    group: Kind
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
    listed = LISTS.get(letters.lower()) if digits else None
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
    size = (float(str(major)), float(str(minor or major))) if major else None
    ra_deg, dec_deg = math.degrees(float(str(ra))) % 360, math.degrees(float(str(dec)))
    aliases = tuple(
        a.strip()
        for words in (common, identifiers)
        for a in str(words or "").split(",")
        if a.strip()
    )
    return CatalogueObject(
        spaced(str(name)),
        _KINDS.get(str(kind), "object"),
        KIND_OF.get(str(kind), "emission"),
        ra_deg,
        dec_deg,
        large_region(ra_deg, dec_deg) or size,
        float(str(angle or 0)),
        aliases[:6],
    )


def large_region(ra_deg: float, dec_deg: float) -> tuple[float, float] | None:
    """The size of the large emission region whose middle is said to be here, arcminutes."""
    for ra, dec, wide, high in LARGE:
        away = math.hypot((ra - ra_deg) * math.cos(math.radians(dec)), dec - dec_deg)
        if away < _NEAR_DEG:
            return wide, high
    return None


def spaced(name: str) -> str:
    """A designation with its number apart: ``NGC5236`` as ``NGC 5236``."""
    match = re.fullmatch(r"([A-Za-z]+)\s*0*(\d+)(.*)", name)
    return f"{match[1]} {match[2]}{match[3]}" if match else name

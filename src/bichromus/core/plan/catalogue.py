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
    query = (
        "SELECT name, type, ra, dec, majax, minax, pa, identifiers, commonnames FROM objects "
        "WHERE ra IS NOT NULL AND (name LIKE ? OR commonnames LIKE ? OR identifiers LIKE ?) "
        "ORDER BY name LIKE ? DESC, length(name), name LIMIT ?"
    )
    with contextlib.closing(
        sqlite3.connect(f"{database().absolute().as_uri()}?mode=ro", uri=True)
    ) as db:
        rows = db.execute(query, (pattern, wide, wide, pattern, most)).fetchall()
    return [_entry(row) for row in rows]


def _entry(row: tuple[object, ...]) -> CatalogueObject:
    name, kind, ra, dec, major, minor, angle, identifiers, common = row
    size = (float(str(major)), float(str(minor or major))) if major else None
    aliases = tuple(
        a.strip()
        for words in (common, identifiers)
        for a in str(words or "").split(",")
        if a.strip()
    )
    return CatalogueObject(
        _spaced(str(name)),
        _KINDS.get(str(kind), "object"),
        math.degrees(float(str(ra))) % 360,
        math.degrees(float(str(dec))),
        size,
        float(str(angle or 0)),
        aliases[:6],
    )


def _spaced(name: str) -> str:
    match = re.fullmatch(r"([A-Za-z]+)0*(\d+)(.*)", name)
    return f"{match[1]} {match[2]}{match[3]}" if match else name

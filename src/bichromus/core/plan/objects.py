"""Every deep-sky object of the catalogue, with its usual designations, kind and size."""

from __future__ import annotations

import contextlib
import math
import re
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Final

from .catalogue import LISTS, database, large_region, spaced
from .kinds import KIND_OF, Kind

_NAMED: Final = re.compile(r"(messier|caldwell|ngc|ic|m|c)[\s.]*0*(\d+)", re.IGNORECASE)


@dataclass(frozen=True)
class SkyObject:
    """An object: ``ids`` such as ``M 83``, ``NGC 5236``, ``C 77``; J2000 degrees; size in
    arcminutes, the long axis first, None where unknown; ``names`` people call it by.
    """

    name: str
    ids: tuple[str, ...]
    kind: Kind
    ra: float
    dec: float
    size_arcmin: tuple[float, float] | None
    names: tuple[str, ...]


@cache
def every_object() -> tuple[SkyObject, ...]:
    """All objects that one may shoot. Raises InputError where the catalogue is not installed."""
    query = (
        "SELECT name, type, ra, dec, majax, minax, messier, ngc, ic, identifiers, commonnames "
        f"FROM objects WHERE ra IS NOT NULL AND type IN ({', '.join('?' * len(KIND_OF))}) "
        "ORDER BY name"
    )
    where = f"{database().absolute().as_uri()}?mode=ro"
    with contextlib.closing(sqlite3.connect(where, uri=True)) as db:
        rows = db.execute(query, tuple(KIND_OF)).fetchall()
    return tuple(_object(row) for row in rows)


def named(text: str) -> SkyObject | None:
    """The object of a designation or a common name; None where there is none."""
    match = _NAMED.fullmatch(text.strip())
    if match:
        wanted = f"{LISTS[match[1].lower()]} {int(match[2])}"
        return next((o for o in every_object() if wanted in o.ids), None)
    said = " ".join(text.casefold().split())
    same = (o for o in every_object() if said in (n.casefold() for n in (*o.names, o.name)))
    part = (o for o in every_object() if any(said in n.casefold() for n in o.names))
    return next(same, None) or (next(part, None) if len(said) > 2 else None)


def _object(row: Sequence[object]) -> SkyObject:
    name, kind, ra, dec, major, minor = row[:6]
    messier, ngc, ic, identifiers, common = (str(v or "") for v in row[6:])
    designation = spaced(str(name))
    found = [f"M {int(n)}" for n in _numbers(messier)]
    found += [designation, *(f"NGC {int(n)}" for n in _numbers(ngc))]
    found += [f"IC {int(n)}" for n in _numbers(ic)]
    words = (w.strip() for w in identifiers.split(","))
    found += [spaced(w) for w in words if re.fullmatch(r"C \d+", w)]
    ids = tuple(dict.fromkeys(f for f in found if f.split()[0] in ("M", "NGC", "IC", "C")))
    ra_deg, dec_deg = math.degrees(float(str(ra))) % 360, math.degrees(float(str(dec)))
    about = large_region(ra_deg, dec_deg) if KIND_OF[str(kind)] == "emission" else None
    size = (float(str(major)), float(str(minor or major))) if major else None
    names = tuple(w.strip() for w in common.split(",") if w.strip())
    return SkyObject(
        designation,
        ids,
        KIND_OF[str(kind)],
        ra_deg,
        dec_deg,
        about or size,
        names,
    )


def _numbers(text: str) -> list[str]:
    return re.findall(r"\d+", text)

"""``plan list``: what to shoot this night or month."""

from __future__ import annotations

import argparse
import calendar
import datetime as dt
from pathlib import Path
from typing import Any, Final

import numpy as np

from ..core.model.errors import InputError
from ..core.plan.earth import Place
from ..core.plan.horizon import OPEN_HORIZON, read_horizon
from ..core.plan.kinds import KINDS
from ..core.plan.month import usable_hours
from ..core.plan.night import Rules
from ..core.plan.objects import SkyObject, every_object, named
from .angles import date, number, pair
from .parser import add_common
from .telling import print_json, say, table

_FITS: Final = (0.25, 1.5)
"""Long axis of a target over the longer side of a field that it is for."""


def register(parts: Any) -> None:
    """The verb plan list."""
    parser = parts.add_parser("list")
    parser.add_argument("--lat", type=number, required=True, metavar="DEG")
    parser.add_argument("--lon", type=number, required=True, metavar="DEG")
    when = parser.add_mutually_exclusive_group(required=True)
    when.add_argument("--date", type=date, metavar="YYYY-MM-DD")
    when.add_argument("--month", type=_month, metavar="YYYY-MM")
    parser.add_argument("--elevation", type=number, default=0.0, metavar="M")
    parser.add_argument("--horizon", metavar="CSV", help="azimuth_deg,altitude_deg")
    parser.add_argument("--min-altitude", type=number, default=20.0, metavar="DEG")
    parser.add_argument("--sun-below", type=number, default=-18.0, metavar="DEG")
    parser.add_argument("--field-deg", type=pair, metavar="WxH", help="what fits into a field")
    parser.add_argument("--kinds", type=_kinds, metavar="LIST", help=", ".join(KINDS))
    parser.add_argument("--name", action="append", default=[], metavar="TEXT")
    parser.add_argument("--by", choices=("lines", "broadband"), default="lines")
    parser.add_argument("--limit", type=_limit, default=200, metavar="N", help="0: all")
    add_common(parser)
    parser.set_defaults(run=run)


def _month(text: str) -> dt.date:
    try:
        return dt.date.fromisoformat(f"{text}-01")
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no month; write it as 2027-03") from error


def _kinds(text: str) -> tuple[str, ...]:
    kinds = tuple(k.strip() for k in text.split(",") if k.strip())
    unknown = [k for k in kinds if k not in KINDS]
    if unknown or not kinds:
        raise argparse.ArgumentTypeError(f"{text!r} names no kind; use {', '.join(KINDS)}")
    return kinds


def _limit(text: str) -> int:
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is no number of targets")
    return int(text)


def run(o: argparse.Namespace) -> None:
    """The targets with the most hours."""
    warnings: list[str] = []
    objects = _named(o.name, warnings) if o.name else _chosen(o)
    horizon = read_horizon(Path(o.horizon)) if o.horizon else OPEN_HORIZON
    rules = Rules(o.min_altitude, o.sun_below, False, horizon)
    place = Place(o.lat, o.lon, o.elevation)
    ra, dec = (np.array([getattr(x, key) for x in objects]) for key in ("ra", "dec"))
    hours = usable_hours(place, _dates(o), rules, ra, dec)
    rows = [
        {
            "name": x.name,
            "ids": list(x.ids),
            "kind": x.kind,
            "ra": x.ra,
            "dec": x.dec,
            "size_arcmin": None if x.size_arcmin is None else list(x.size_arcmin),
            "transit_altitude_deg": float(hours.transit[n]),
            "hours_lines": float(hours.open[n]),
            "hours_broadband": float(hours.moonless[n]),
        }
        for n, x in enumerate(objects)
        if o.name or hours.open[n] > 0
    ]
    rows.sort(key=lambda r: _order(r, o.by))
    rows = rows[: o.limit] if o.limit else rows
    if o.json:
        print_json({"targets": rows, "warnings": warnings})
        return
    heads = ("target", "kind", "arcmin", "transit", "hours, lines", "hours, broadband")
    print(table(heads, [_line(r) for r in rows]))
    for warning in warnings:
        say(f"note: {warning}")


def _order(row: dict[str, Any], by: str) -> tuple[float, float, str]:
    """The most hours first; of equal ones the largest."""
    return -round(row[f"hours_{by}"], 2), -max(row["size_arcmin"] or (0.0,)), row["name"]


def _line(row: dict[str, Any]) -> tuple[Any, ...]:
    size = row["size_arcmin"]
    return (
        ", ".join(row["ids"]) or row["name"],
        row["kind"],
        "-" if size is None else f"{size[0]:.0f} x {size[1]:.0f}",
        row["transit_altitude_deg"],
        row["hours_lines"],
        row["hours_broadband"],
    )


def _dates(o: argparse.Namespace) -> list[dt.date]:
    if o.date is not None:
        return [o.date]
    _, days = calendar.monthrange(o.month.year, o.month.month)
    return [o.month + dt.timedelta(days=n) for n in range(days)]


def _named(texts: list[str], warnings: list[str]) -> list[SkyObject]:
    found: dict[str, SkyObject] = {}
    for text in texts:
        one = named(text)
        if one is None:
            warnings.append(f"The catalogue holds no {text}.")
        else:
            found[one.name] = one
    return list(found.values())


def _chosen(o: argparse.Namespace) -> list[SkyObject]:
    field = None if o.field_deg is None else max(o.field_deg) * 60
    if field is not None and field <= 0:
        raise InputError("The field has no size", do="Give --field-deg as 3.5x2.4")
    out = []
    for x in every_object():
        if o.kinds and x.kind not in o.kinds:
            continue
        if field is not None and (
            x.size_arcmin is None or not _FITS[0] <= max(x.size_arcmin) / field <= _FITS[1]
        ):
            continue
        out.append(x)
    return out

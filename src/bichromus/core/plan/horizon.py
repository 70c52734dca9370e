"""The local horizon: azimuth and altitude, straight between points, steps allowed, closed over
north.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np

from ..model.errors import InputError
from ..model.text_file import csv_rows, read_text
from ..model.visible import quote
from .earth import F64


@dataclass(frozen=True)
class Horizon:
    """Points (azimuth 0 to 360 from north through east, altitude), both in degrees, in the order of
    azimuth.

    Two points of one azimuth make a step. No points: altitude 0 all round.
    """

    points: tuple[tuple[float, float], ...] = ()

    def altitude(self, azimuth: F64) -> F64:
        """Altitude of the horizon at azimuths."""
        if not self.points:
            return np.zeros_like(azimuth)
        az = np.array([p[0] for p in self.points])
        alt = np.array([p[1] for p in self.points])
        az = np.concatenate([[az[-1] - 360], az, [az[0] + 360]])
        alt = np.concatenate([[alt[-1]], alt, [alt[0]]])
        return _interpolate(np.mod(azimuth, 360.0), az, alt)


OPEN_HORIZON: Final = Horizon()


def _interpolate(x: F64, xs: F64, ys: F64) -> F64:
    """Straight lines between points; at a step the later value holds from its azimuth on."""
    right = np.clip(np.searchsorted(xs, x, side="right"), 1, len(xs) - 1)
    x0, x1, y0, y1 = xs[right - 1], xs[right], ys[right - 1], ys[right]
    share = np.where(x1 > x0, (x - x0) / np.where(x1 > x0, x1 - x0, 1), 1.0)
    return np.asarray(y0 + share * (y1 - y0))


def make_horizon(points: Iterable[tuple[float, float]]) -> Horizon:
    """Points in any order; equal azimuths keep their order."""
    return Horizon(
        tuple(sorted(((a % 360 if a != 360 else 360.0, h) for a, h in points), key=lambda p: p[0]))
    )


def read_horizon(path: Path) -> Horizon:
    """CSV with the header ``azimuth_deg,altitude_deg``; ``#`` begins a note. Raises InputError."""
    try:
        text = read_text(path, "utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(
            "The horizon cannot be read",
            why=getattr(error, "strerror", None) or "it is not text",
            do="Give a CSV file",
            file=path,
        ) from error
    lines = [
        line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")
    ]

    def refuse(why: str) -> InputError:
        return InputError(
            "The horizon is not usable",
            why=why,
            file=path,
            do="Its header is azimuth_deg,altitude_deg, its rows are two numbers in degrees",
        )

    try:
        rows = csv_rows(lines)
    except ValueError as error:
        raise refuse(str(error)) from error
    if not rows or [c.lower() for c in rows[0]] != ["azimuth_deg", "altitude_deg"] or len(rows) < 2:
        raise refuse("the header or every row is missing")
    points = []
    for row in rows[1:]:
        try:
            azimuth, altitude = (float(c) for c in row)
        except ValueError as error:
            raise refuse(f"the row {quote(','.join(row))} does not fit") from error
        if not (math.isfinite(azimuth) and -360 <= azimuth <= 720 and -90 <= altitude <= 90):
            raise refuse(f"the row {quote(','.join(row))} is out of range")
        points.append((azimuth, altitude))
    return make_horizon(points)

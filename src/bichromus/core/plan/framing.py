"""Field, scale, mosaic, and the field that several rigs share."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from ..model.errors import InputError

Point = tuple[float, float]
GOOD_SAMPLING: Final = (2.0, 3.0)


@dataclass(frozen=True)
class Field:
    """A sensor's field in the tangent plane: width and height in degrees, camera angle from north
    through east, offset east and north of the common centre in degrees.
    """

    name: str
    width: float
    height: float
    angle: float = 0.0
    offset: Point = (0.0, 0.0)

    def corners(self) -> list[Point]:
        """Corners (east, north), counter-clockwise as seen with east to the left."""
        along, across = _sides(self.angle)
        half_w, half_h = self.width / 2, self.height / 2
        return [
            (
                self.offset[0] + u * half_w * along[0] + v * half_h * across[0],
                self.offset[1] + u * half_w * along[1] + v * half_h * across[1],
            )
            for u, v in ((1, 1), (-1, 1), (-1, -1), (1, -1))
        ]


def _sides(camera_angle: float) -> tuple[Point, Point]:
    """Directions (east, north) of a sensor's sides: the W side runs along the angle, north turned
    toward east.
    """
    turn = math.radians(camera_angle)
    return (math.sin(turn), math.cos(turn)), (math.cos(turn), -math.sin(turn))


@dataclass(frozen=True)
class Framing:
    """Scale in arcsec per (binned) pixel, field in degrees, extent of the target along the sensor's
    sides.
    """

    scale_arcsec: float
    field: tuple[float, float]
    extent: tuple[float, float] | None
    panels: tuple[int, int] | None
    fwhm_px: float | None
    verdict: str | None


def field_of(length_mm: float, focal_mm: float) -> float:
    """Field in degrees of a sensor's side."""
    return math.degrees(2 * math.atan(length_mm / 2 / focal_mm))


def extent_of(
    size: tuple[float, float], angle_deg: float, box: bool = False
) -> tuple[float, float]:
    """Extent of an ellipse (or box) of axes ``size`` along sides turned by ``angle_deg`` against
    it.
    """
    cos, sin = abs(math.cos(math.radians(angle_deg))), abs(math.sin(math.radians(angle_deg)))
    w, h = size
    if box:
        return w * cos + h * sin, w * sin + h * cos
    return math.hypot(w * cos, h * sin), math.hypot(w * sin, h * cos)


def panels_for(length: float, field: float, overlap: float) -> int:
    """Panels along one side."""
    if length <= field:
        return 1
    return 1 + math.ceil((length - field) / (field * (1 - overlap)) - 1e-9)


def frame(
    focal_mm: float,
    pixel_um: float,
    sensor_mm: tuple[float, float],
    binning: int = 1,
    target: tuple[float, float] | None = None,
    turned_deg: float = 0.0,
    box: bool = False,
    overlap: float = 0.15,
    fwhm_arcsec: float | None = None,
) -> Framing:
    """Everything about a frame; ``turned_deg`` is the target's angle less the camera's."""
    if min(focal_mm, pixel_um, *sensor_mm, binning) <= 0:
        raise InputError(
            "This rig cannot be",
            why="a length is not above zero",
            do="Give focal length, pixel and sensor above zero",
        )
    if not 0 <= overlap < 0.9:
        raise InputError(
            "This overlap cannot be",
            why=f"{overlap:g}",
            do="Give a share of the field from 0 to 0.9",
        )
    if target is not None and min(target) <= 0:
        raise InputError(
            "This target has no size",
            why=f"{target[0]:g} x {target[1]:g}",
            do="Give degrees above zero",
        )
    scale = 206.265 * pixel_um * binning / focal_mm
    field = (field_of(sensor_mm[0], focal_mm), field_of(sensor_mm[1], focal_mm))
    extent = extent_of(target, turned_deg, box) if target else None
    panels = (
        (panels_for(extent[0], field[0], overlap), panels_for(extent[1], field[1], overlap))
        if extent
        else None
    )
    width = fwhm_arcsec / scale if fwhm_arcsec else None
    verdict = (
        None
        if width is None
        else "under"
        if width < GOOD_SAMPLING[0]
        else ("good" if width <= GOOD_SAMPLING[1] else "over")
    )
    return Framing(scale, field, extent, panels, width, verdict)


def panel_centres(frame_: Framing, overlap: float, camera_angle: float) -> list[Point]:
    """Centres (east, north) of the mosaic's panels in degrees in the tangent plane, row by row."""
    if frame_.panels is None:
        return [(0.0, 0.0)]
    (nx, ny), (w, h) = frame_.panels, frame_.field
    along, across = _sides(camera_angle)
    out = []
    for row in range(ny):
        for column in range(nx):
            u, v = (
                (column - (nx - 1) / 2) * w * (1 - overlap),
                (row - (ny - 1) / 2) * h * (1 - overlap),
            )
            out.append((u * along[0] + v * across[0], u * along[1] + v * across[1]))
    return out


def from_plane(ra_deg: float, dec_deg: float, east_deg: float, north_deg: float) -> Point:
    """Right ascension and declination of a point in the tangent plane."""
    x, y = math.radians(east_deg), math.radians(north_deg)
    dec = math.radians(dec_deg)
    bottom = math.cos(dec) - y * math.sin(dec)
    ra = math.atan2(x, bottom)
    return (
        (ra_deg + math.degrees(ra)) % 360,
        math.degrees(math.atan2(math.sin(dec) + y * math.cos(dec), math.hypot(x, bottom))),
    )


def common_field(fields: Sequence[Field]) -> list[Point]:
    """The polygon that all fields see; empty when there is none (Sutherland & Hodgman 1974)."""
    shape = _turned_left(fields[0].corners())
    for other in fields[1:]:
        window = _turned_left(other.corners())
        for a, b in zip(window, [*window[1:], window[0]], strict=True):
            shape = _clip(shape, a, b)
            if not shape:
                return []
    return shape


def area(points: Sequence[Point]) -> float:
    """Area of a polygon."""
    return abs(_signed(points))


def _signed(points: Sequence[Point]) -> float:
    return (
        sum(
            a[0] * b[1] - b[0] * a[1] for a, b in zip(points, [*points[1:], points[0]], strict=True)
        )
        / 2
    )


def _turned_left(points: list[Point]) -> list[Point]:
    return points if _signed(points) >= 0 else points[::-1]


def _clip(shape: list[Point], a: Point, b: Point) -> list[Point]:
    def side(p: Point) -> float:
        return (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0])

    out: list[Point] = []
    for p, q in zip(shape, [*shape[1:], shape[0]], strict=True):
        sp, sq = side(p), side(q)
        if sp >= 0:
            out.append(p)
        if (sp > 0 > sq) or (sp < 0 < sq):
            t = sp / (sp - sq)
            out.append((p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])))
    return out

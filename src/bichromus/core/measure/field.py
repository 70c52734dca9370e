"""Star width and elongation over the frame: tilt, curvature and corners, in figures and in
words.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from ..model.errors import NotEnoughData
from ..model.measures import Stars
from ..model.planes import F32
from ..numerics.poly import F64, Poly, fit_poly
from ..numerics.robust import MAD_TO_SIGMA
from .moffat import moffat_shapes

LEAST: Final = 30
_MOST: Final = 360
_CELLS: Final = (4, 6)
_PLACES: Final = {
    (0, 0): "upper left",
    (0, 1): "upper right",
    (1, 0): "lower left",
    (1, 1): "lower right",
}
_SEEN: Final = 0.05  # of the width: less is not worth a word


@dataclass(frozen=True)
class StarField:
    """Width (FWHM, px) and elongation over a frame of ``shape`` (H, W).

    ``width`` is a quadratic surface; ``e_plus`` and ``e_cross`` are surfaces of the elongation 1 -
    b/a times cos and sin of twice its angle. ``error`` is that of a corner's width. ``stars`` were
    fitted.
    """

    shape: tuple[int, int]
    width: Poly
    e_plus: Poly
    e_cross: Poly
    stars: int
    error: float

    def width_at(self, x: float, y: float) -> float:
        """Star width (FWHM) at a place of the frame, px."""
        return float(self.width.at(np.array([x]), np.array([y]))[0])

    def elongation_at(self, x: float, y: float) -> tuple[float, float]:
        """1 - b/a, and the angle of the long axis in degrees from the x axis toward +y."""
        one, two = (
            float(p.at(np.array([x]), np.array([y]))[0]) for p in (self.e_plus, self.e_cross)
        )
        return float(np.hypot(one, two)), float(np.degrees(np.arctan2(two, one)) / 2)

    @property
    def middle(self) -> float:
        """Width in the middle, px."""
        return self.width_at((self.shape[1] - 1) / 2, (self.shape[0] - 1) / 2)

    @property
    def corners(self) -> dict[str, float]:
        """Widths in the corners, px."""
        return {
            name: self.width_at(c * (self.shape[1] - 1), r * (self.shape[0] - 1))
            for (r, c), name in _PLACES.items()
        }

    @property
    def tilt(self) -> float:
        """Width of the widest side of the frame less that of the side across, px: what a tilted
        sensor does.
        """
        return 2 * float(np.abs(self._slopes()).max())

    @property
    def tilt_corner(self) -> str:
        """The corner toward which the stars grow."""
        across, down = self._slopes()
        return _PLACES[int(down > 0), int(across > 0)]

    @property
    def curvature(self) -> float:
        """Mean width of the corners less that of the middle, px."""
        return float(np.mean(list(self.corners.values()))) - self.middle

    def _slopes(self) -> np.ndarray:
        """Half the change of width from side to side, and from top to bottom."""
        return np.array([self.width.terms[1], self.width.terms[2]])

    def words(self) -> str:
        """What is to be seen, in a line."""
        corners = self.corners
        parts = [f"stars {self.middle:.1f} px in the middle"]
        limit = max(_SEEN * self.middle, 3 * self.error)
        if self.tilt > limit:
            where = self.tilt_corner
            parts.append(f"{corners[where]:.1f} px {where}: tilt {self.tilt:.1f} px")
        if abs(self.curvature) > limit:
            side = "wider" if self.curvature > 0 else "narrower"
            parts.append(f"corners {abs(self.curvature):.1f} px {side}: curvature")
        long, angle = self.elongation_at((self.shape[1] - 1) / 2, (self.shape[0] - 1) / 2)
        if long > 0.1:
            parts.append(f"long by {long:.2f} along {angle % 180:.0f}°")
        return ", ".join(parts) if len(parts) > 1 else f"{parts[0]}, even to the corners"

    def as_note(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "shape": list(self.shape),
            "stars": self.stars,
            "error": self.error,
            **{
                n: list(p.terms)
                for n, p in (("width", self.width), ("plus", self.e_plus), ("cross", self.e_cross))
            },
        }


def field_from_note(note: dict[str, Any]) -> StarField:
    """What ``as_note`` told."""
    shape = int(note["shape"][0]), int(note["shape"][1])
    width, plus, cross = (
        Poly(_degree(len(note[n])), tuple(note[n]), shape) for n in ("width", "plus", "cross")
    )
    return StarField(shape, width, plus, cross, int(note["stars"]), float(note["error"]))


def _degree(terms: int) -> int:
    return {1: 0, 3: 1, 6: 2}[terms]


def star_field(plane: F32, stars: Stars, saturation: float | None = None) -> StarField:
    """The field of a finite plane (H, W) on which ``stars`` were found. Raises NotEnoughData under
    30 good fits.
    """
    if stars.fwhm_px is None:
        raise NotEnoughData("There are too few stars to map the field", why=f"{stars.count} found")
    x, y = _spread(np.array(stars.x), np.array(stars.y), plane.shape)
    shapes = moffat_shapes(plane, x, y, stars.fwhm_px, saturation, _MOST, stars.beta)
    if len(shapes) < LEAST:
        raise NotEnoughData(
            "There are too few stars to map the field",
            why=f"{len(shapes)} of {LEAST} can be fitted",
        )
    px, py, small, large, angle = shapes.T
    width = np.sqrt(small * large)
    shape = (plane.shape[0], plane.shape[1])
    surface = fit_poly(px, py, width, shape, 2)
    long = 1 - small / large
    off = width - surface.at(px, py)
    sigma = MAD_TO_SIGMA * float(np.median(np.abs(off)))
    plus, cross = (fit_poly(px, py, long * f(2 * angle), shape, 1) for f in (np.cos, np.sin))
    return StarField(shape, surface, plus, cross, len(shapes), _corner_error(px, py, shape) * sigma)


def _corner_error(x: F64, y: F64, shape: tuple[int, int]) -> float:
    """Error of a fitted quadratic in a corner, over that of one star."""
    u, v = 2 * x / max(shape[1] - 1, 1) - 1, 2 * y / max(shape[0] - 1, 1) - 1
    design = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], 1)
    covariance = np.linalg.pinv(design.T @ design)
    corner = np.ones(6)
    return float(np.sqrt(corner @ covariance @ corner))


def _spread(x: F64, y: F64, shape: tuple[int, ...]) -> tuple[F64, F64]:
    """The stars in an order that covers the frame: the brightest of each cell first, then the next
    of each.
    """
    rows = np.clip((y / shape[0] * _CELLS[0]).astype(int), 0, _CELLS[0] - 1)
    columns = np.clip((x / shape[1] * _CELLS[1]).astype(int), 0, _CELLS[1] - 1)
    cell = rows * _CELLS[1] + columns
    turn = np.zeros(len(x), int)
    for c in np.unique(cell):
        here = np.flatnonzero(cell == c)
        turn[here] = np.arange(len(here))
    order = np.argsort(turn, kind="stable")
    return x[order], y[order]

"""How one rig sees the sky that all share: turned, mirrored, shifted, at its own scale, bent by its
lens.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .scene import Scene, StarTable

F64 = NDArray[np.float64]
_BESIDE_PX = 30  # a star so far off still sheds light on the frame


@dataclass(frozen=True)
class Grid:
    """The pixels of a stack: (height, width), arcsec per pixel, turn of its x axis in degrees,
    mirror, middle of the field off the target's (arcmin), and ``bend``: how much further a corner
    lies than a straight lens puts it (share).
    """

    shape: tuple[int, int]
    scale_arcsec: float
    turn_deg: float = 0.0
    mirrored: bool = False
    shift_arcmin: tuple[float, float] = (0.0, 0.0)
    bend: float = 0.0

    def to_sky(self, x: F64, y: F64) -> tuple[F64, F64]:
        """Arcseconds from the target, right and down, of pixels."""
        u, v = x - (self.shape[1] - 1) / 2, y - (self.shape[0] - 1) / 2
        corner2 = (self.shape[1] ** 2 + self.shape[0] ** 2) / 4
        straight = self.scale_arcsec * (1 - self.bend * (u * u + v * v) / corner2)
        u, v = straight * u * (-1 if self.mirrored else 1), straight * v
        c, s = np.cos(np.radians(self.turn_deg)), np.sin(np.radians(self.turn_deg))
        return c * u - s * v + 60 * self.shift_arcmin[0], s * u + c * v + 60 * self.shift_arcmin[1]

    def from_sky(self, right: F64, down: F64) -> tuple[F64, F64]:
        """Pixels of places given in arcseconds from the target."""
        c, s = np.cos(np.radians(self.turn_deg)), np.sin(np.radians(self.turn_deg))
        dx, dy = right - 60 * self.shift_arcmin[0], down - 60 * self.shift_arcmin[1]
        u, v = (c * dx + s * dy) / self.scale_arcsec, (c * dy - s * dx) / self.scale_arcsec
        u = -u if self.mirrored else u
        corner2 = (self.shape[1] ** 2 + self.shape[0] ** 2) / 4
        far_u, far_v = u, v
        for _ in range(6 if self.bend else 0):  # the bend is small: each round gains two digits
            straight = 1 - self.bend * (far_u * far_u + far_v * far_v) / corner2
            far_u, far_v = u / straight, v / straight
        return far_u + (self.shape[1] - 1) / 2, far_v + (self.shape[0] - 1) / 2


def seen_on(scene: Scene, grid: Grid) -> Scene:
    """The scene, whose middle is the target, as it falls on a grid. What lies beyond the scene is
    dark.
    """
    home = Grid(scene.shape, scene.scale_arcsec)
    if grid == home:
        return scene
    y, x = np.mgrid[0 : grid.shape[0], 0 : grid.shape[1]].astype(np.float64)
    u, v = home.from_sky(*grid.to_sky(x, y))
    at = u.astype(np.float32), v.astype(np.float32)

    def moved(plane: F32) -> F32:
        out = cv2.remap(plane, *at, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        return np.maximum(np.asarray(out, np.float32), 0)

    return Scene(
        grid.scale_arcsec,
        {n: moved(p) for n, p in scene.lines.items()},
        {n: moved(p) for n, p in scene.continuum.items()},
        _stars_on(scene.stars, home, grid),
    )


def _stars_on(stars: StarTable, home: Grid, grid: Grid) -> StarTable:
    """The stars that fall on a grid, or just beside it."""
    x, y = grid.from_sky(*home.to_sky(stars.x.astype(float), stars.y.astype(float)))
    low, high_y, high_x = -_BESIDE_PX, grid.shape[0] + _BESIDE_PX, grid.shape[1] + _BESIDE_PX
    near = (x > low) & (y > low) & (x < high_x) & (y < high_y)
    light = (stars.mag, stars.temperature_k)
    cut = [a[near].astype(np.float32) for a in (x, y, *light, stars.extinction)]
    return type(stars)(*cut)

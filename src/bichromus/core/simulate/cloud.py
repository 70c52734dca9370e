"""A cloud of gas lit from inside: fronts that face the hot stars, pillars and globules with their
shadows, smooth glow between them, dust in front.

The gas is a random field; the light of the hot stars is followed outward through it. Where it ends
there is a front, and behind a dense clump there is none: so fronts, pillars and shadows come by
themselves.
"""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..numerics.smoothing import gaussian
from .fields import power_field, ridged, smoothstep

_SHEETS: Final = 3
"""Layers of gas one behind the other."""
_RAYS: Final = 2048
_REACH: Final = 1.7  # how far light is followed, in long half axes
_CLUMPS: Final = 150
_POLAR: Final = cv2.WARP_POLAR_LINEAR | cv2.INTER_LINEAR | cv2.WARP_FILL_OUTLIERS


class Cloud:
    """All parts on a grid (H, W). ``gas`` is its column, ``light`` what of the hot stars' light
    arrives (1 at the heart), ``shining``, ``hard`` and ``fronts`` are what Ha, O3 and S2 follow,
    ``haze`` lies smoothly over all, ``dust`` is an optical depth in front.
    """

    def __init__(
        self,
        shape: tuple[int, int],
        scale_arcsec: float,
        half_size_arcmin: tuple[float, float],
        heart: tuple[float, float],
        rng: np.random.Generator,
    ) -> None:
        self.shape, self._rng = shape, rng
        self.unit = half_size_arcmin[0] * 60 / scale_arcsec  # the long half axis in pixels
        flat = half_size_arcmin[0] / half_size_arcmin[1]
        gy, gx = np.mgrid[0 : shape[0], 0 : shape[1]].astype(np.float32)
        wide = [self._field(4.2, 0.9) * np.float32(0.09) for _ in range(2)]
        u = (gx - shape[1] / 2) / self.unit + wide[0]
        v = (gy - shape[0] / 2) / self.unit * flat + wide[1]
        self._radius = np.hypot(u, v)
        self._envelope = smoothstep(1.22, 0.30, self._radius + 0.12 * self._field(3.6, 0.5))
        self._heart = (
            shape[1] / 2 + heart[0] * self.unit,
            shape[0] / 2 + heart[1] * self.unit / flat,
        )
        from_heart = np.hypot(gx - self._heart[0], (gy - self._heart[1]) * flat * 0.92) / self.unit
        self._hollow = smoothstep(0.16, 0.50, from_heart + 0.10 * self._field(3.4, 0.35))
        self._opaque = np.zeros(shape, np.float32)
        parts = [self._sheet(n) for n in range(_SHEETS)]
        self.gas, self.light, self.shining, self.hard, self.fronts = (
            np.sum(p, axis=0, dtype=np.float32) / np.float32(_SHEETS)
            for p in zip(*parts, strict=True)
        )
        self.haze = self._glow(from_heart)
        self.dust = self._dust()

    def _field(self, slope: float, longest: float) -> F32:
        return power_field(self.shape, slope, self._rng, self.unit * longest)

    def _gas(self, number: int) -> F32:
        """One sheet: lumpy as turbulence leaves it, with threads, hollow about the hot stars."""
        lumps = self._field(3.9, 0.40 + 0.14 * number)
        folds = self._warped(self._field(3.7, 0.30), 0.05)
        fine = self._field(3.2, 0.10)
        threads = ridged(self._warped(self._field(3.7, 0.34), 0.04), 5.0)
        body = np.exp(0.75 * lumps + 0.45 * folds + 0.10 * fine) * (0.55 + 0.9 * threads)
        return (body * self._envelope * (0.04 + 0.96 * self._hollow)).astype(np.float32)

    def _warped(self, plane: F32, by: float) -> F32:
        """A field bent by another, as gas is that has flowed."""
        gy, gx = np.mgrid[0 : self.shape[0], 0 : self.shape[1]].astype(np.float32)
        x, y = (self._field(4.2, 0.45) * np.float32(by * self.unit) for _ in range(2))
        out = cv2.remap(plane, gx + x, gy + y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)
        return np.asarray(out, np.float32)

    def _clumps(self, number: int) -> F32:
        """Globules: small, dense, a little drawn out away from the hot stars, frayed."""
        plane = np.zeros(self.shape, np.float32)
        rng = self._rng
        for _ in range(_CLUMPS // _SHEETS):
            turn, away = rng.uniform(0, 2 * np.pi), rng.uniform(0.30, 0.95)
            x = self._heart[0] + away * self.unit * np.cos(turn)
            y = self._heart[1] + away * self.unit * np.sin(turn) * 0.75
            size = self.unit * 0.0030 * float(rng.pareto(2.2) + 0.8)
            size = min(size, 0.012 * self.unit)
            long = size * rng.uniform(1.2, 3.2)
            _add_clump(plane, x, y, size, long, turn, rng.uniform(3, 9))
        frayed = np.clip(1 + 0.35 * self._field(3.2, 0.03), 0.2, None)
        return (plane * frayed * self._envelope).astype(np.float32)

    def _sheet(self, number: int) -> tuple[F32, F32, F32, F32, F32]:
        """Gas, light, and what shines of it: followed along rays from the hot stars."""
        gas, clumps = self._gas(number), self._clumps(number)
        reach = int(_REACH * self.unit)
        size = (reach, _RAYS)
        middle = (
            self._heart[0] + float(self._rng.normal(0, 0.05)) * self.unit,
            self._heart[1] + float(self._rng.normal(0, 0.05)) * self.unit,
        )
        along = np.asarray(cv2.warpPolar(gas + clumps, size, middle, reach, _POLAR), np.float32)
        depth = np.cumsum(along, axis=1) * np.float32(2.6 / self.unit)
        arriving = _back(np.exp(-depth), self.shape, middle, reach)
        hard = _back(np.exp(-2.4 * depth), self.shape, middle, reach)
        ending = _back(depth * np.exp(-1.25 * depth) * 2.2, self.shape, middle, reach)
        # gas that is lit shines as its density squared; the faces of what is dense shine most
        lit = gas ** np.float32(1.45)
        whole = gas + clumps
        faces = np.maximum(whole - gaussian(whole, 0.008 * self.unit), 0) * arriving
        faces = np.minimum(faces, 2.5)
        self._opaque += clumps
        shining = lit * (arriving + 0.06) + 0.55 * faces
        shock = lit * (ending + 0.08 * arriving) + 0.5 * faces * (1 - hard)
        return gas, arriving, shining, (0.55 * lit + 0.30 * self._envelope) * hard, shock

    def _glow(self, from_heart: F32) -> F32:
        """What shines smoothly: thin gas about the hot stars, and far out."""
        soft = np.clip(0.8 + 0.35 * self._field(3.4, 0.6), 0.1, None)
        near = np.exp(-((from_heart / 0.42) ** 2))
        return (soft * (1.1 * near + 0.35 * smoothstep(1.6, 0.3, self._radius))).astype(np.float32)

    def _dust(self) -> F32:
        """Lanes and a few dark clouds in front of all."""
        lanes = ridged(self._warped(self._field(3.5, 0.55), 0.05), 2.6)
        patches = smoothstep(0.75, 1.9, self._warped(self._field(3.4, 0.36), 0.04))
        inside = smoothstep(1.3, 0.35, self._radius)
        fine = np.clip(0.85 + 0.35 * self._field(3.1, 0.12), 0.2, None)
        front = (1.1 * smoothstep(0.72, 1.05, lanes) + 1.25 * patches) * fine * inside
        return (front + 0.16 * np.minimum(self._opaque, 9)).astype(np.float32)


def _add_clump(
    plane: F32, x: float, y: float, wide: float, long: float, turn: float, height: float
) -> None:
    reach = int(3.5 * max(wide, long)) + 2
    x0, x1 = max(int(x) - reach, 0), min(int(x) + reach + 1, plane.shape[1])
    y0, y1 = max(int(y) - reach, 0), min(int(y) + reach + 1, plane.shape[0])
    if x0 >= x1 or y0 >= y1:
        return
    dx, dy = np.arange(x0, x1) - x, (np.arange(y0, y1) - y)[:, None]
    along = (dx * np.cos(turn) + dy * np.sin(turn)) / long
    across = (dy * np.cos(turn) - dx * np.sin(turn)) / wide
    plane[y0:y1, x0:x1] += (height * np.exp(-(along**2 + across**2) / 2)).astype(np.float32)


def _back(rays: F32, shape: tuple[int, int], middle: tuple[float, float], reach: int) -> F32:
    """Rays (angle, distance) as a picture."""
    flags = _POLAR | cv2.WARP_INVERSE_MAP
    size = (shape[1], shape[0])
    around = np.concatenate([rays, rays[:1]])  # the last ray meets the first
    out = cv2.warpPolar(around[:_RAYS].astype(np.float32), size, middle, reach, flags)
    return np.asarray(out, np.float32)

"""A cloud of gas lit from inside: fronts that face the hot stars, pillars and globules with their
shadows, smooth glow between them, dust in front.

The gas is a random field; the light of the hot stars is followed outward through it. Where it ends
there is a front, and behind a dense clump there is none: so fronts, pillars and shadows come by
themselves.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..numerics.smoothing import gaussian
from .fields import FieldsAhead, ridged, smoothstep

_SHEETS: Final = 3
"""Layers of gas one behind the other."""
_RAYS: Final = 2048
_REACH: Final = 1.7  # how far light is followed, in long half axes
_CLUMPS: Final = 150
_POLAR: Final = cv2.WARP_POLAR_LINEAR | cv2.INTER_LINEAR | cv2.WARP_FILL_OUTLIERS


Field = Callable[[], F32]
Bent = tuple[Field, tuple[Field, Field]]


@dataclass(frozen=True)
class _Drawn:
    """What is random of a sheet: its fields on their way, its globules, and how far its middle lies
    off the heart (in half axes).
    """

    lumps: Field
    folds: Bent
    fine: Field
    threads: Bent
    clumps: list[tuple[float, ...]]
    frayed: Field
    off: tuple[float, float]


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
        gx = np.arange(shape[1], dtype=np.float32)[None, :]
        gy = np.arange(shape[0], dtype=np.float32)[:, None]
        self._ahead = FieldsAhead(shape, rng)
        wide = [f() * np.float32(0.09) for f in [self._field(4.2, 0.9) for _ in range(2)]]
        u = (gx - shape[1] / 2) / self.unit + wide[0]
        v = (gy - shape[0] / 2) / self.unit * flat + wide[1]
        self._radius = np.hypot(u, v)
        self._envelope = smoothstep(1.22, 0.30, self._radius + 0.12 * self._field(3.6, 0.5)())
        self._heart = (
            shape[1] / 2 + heart[0] * self.unit,
            shape[0] / 2 + heart[1] * self.unit / flat,
        )
        from_heart = np.hypot(gx - self._heart[0], (gy - self._heart[1]) * flat * 0.92) / self.unit
        self._hollow = smoothstep(0.16, 0.50, from_heart + 0.10 * self._field(3.4, 0.35)())
        self._opaque = np.zeros(shape, np.float32)
        with ThreadPoolExecutor(1, thread_name_prefix="sheet") as pool:
            # while one sheet is made the noise of the next is drawn
            made = [pool.submit(self._sheet, self._draw_sheet(n)) for n in range(_SHEETS)]
            parts = [m.result() for m in made]
        self.gas, self.light, self.shining, self.hard, self.fronts = (
            np.sum(p, axis=0, dtype=np.float32) / np.float32(_SHEETS)
            for p in zip(*parts, strict=True)
        )
        self.haze = self._glow(from_heart)
        self.dust = self._dust()
        self._ahead.close()

    def _field(self, slope: float, longest: float) -> Field:
        return self._ahead.ask(slope, self.unit * longest)

    def _draw_bent(self, slope: float, longest: float) -> Bent:
        """A field, and the two that bend it."""
        plane = self._field(slope, longest)
        return plane, (self._field(4.2, 0.45), self._field(4.2, 0.45))

    def _draw_sheet(self, number: int) -> _Drawn:
        """All that is random of a sheet, in its order."""
        lumps = self._field(3.9, 0.40 + 0.14 * number)
        folds = self._draw_bent(3.7, 0.30)
        fine = self._field(3.2, 0.10)
        threads = self._draw_bent(3.7, 0.34)
        clumps = self._draw_clumps()
        frayed = self._field(3.2, 0.03)
        off = float(self._rng.normal(0, 0.05)), float(self._rng.normal(0, 0.05))
        return _Drawn(lumps, folds, fine, threads, clumps, frayed, off)

    def _gas(self, drawn: _Drawn) -> F32:
        """One sheet: lumpy as turbulence leaves it, with threads, hollow about the hot stars."""
        folds = self._warped(drawn.folds, 0.05)
        threads = ridged(self._warped(drawn.threads, 0.04), 5.0)
        body = np.exp(0.75 * drawn.lumps() + 0.45 * folds + 0.10 * drawn.fine())
        body = body * (0.55 + 0.9 * threads)
        return (body * self._envelope * (0.04 + 0.96 * self._hollow)).astype(np.float32)

    def _warped(self, bent: Bent, by: float) -> F32:
        """A field bent by another, as gas is that has flowed."""
        x, y = (f() * np.float32(by * self.unit) for f in bent[1])
        x += np.arange(self.shape[1], dtype=np.float32)[None, :]
        y += np.arange(self.shape[0], dtype=np.float32)[:, None]
        out = cv2.remap(bent[0](), x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
        return np.asarray(out, np.float32)

    def _draw_clumps(self) -> list[tuple[float, ...]]:
        """Globules of a sheet: place, width, length, turn and height."""
        out, rng = list[tuple[float, ...]](), self._rng
        for _ in range(_CLUMPS // _SHEETS):
            turn, away = rng.uniform(0, 2 * np.pi), rng.uniform(0.30, 0.95)
            x = self._heart[0] + away * self.unit * np.cos(turn)
            y = self._heart[1] + away * self.unit * np.sin(turn) * 0.75
            size = self.unit * 0.0030 * float(rng.pareto(2.2) + 0.8)
            size = min(size, 0.012 * self.unit)
            long = size * rng.uniform(1.2, 3.2)
            out.append((x, y, size, long, turn, rng.uniform(3, 9)))
        return out

    def _clumps(self, drawn: _Drawn) -> F32:
        """Globules: small, dense, a little drawn out away from the hot stars, frayed."""
        plane = np.zeros(self.shape, np.float32)
        for x, y, wide, long, turn, height in drawn.clumps:
            _add_clump(plane, x, y, wide, long, turn, height)
        frayed = np.clip(1 + 0.35 * drawn.frayed(), 0.2, None)
        return (plane * frayed * self._envelope).astype(np.float32)

    def _sheet(self, drawn: _Drawn) -> tuple[F32, F32, F32, F32, F32]:
        """Gas, light, and what shines of it: followed along rays from the hot stars."""
        gas, clumps = self._gas(drawn), self._clumps(drawn)
        reach = int(_REACH * self.unit)
        size = (reach, _RAYS)
        middle = (
            self._heart[0] + drawn.off[0] * self.unit,
            self._heart[1] + drawn.off[1] * self.unit,
        )
        along = np.asarray(cv2.warpPolar(gas + clumps, size, middle, reach, _POLAR), np.float32)
        depth = np.cumsum(along, axis=1) * np.float32(2.6 / self.unit)
        rays = np.exp(-depth), np.exp(-2.4 * depth), depth * np.exp(-1.25 * depth) * 2.2
        arriving, hard, ending = _back(rays, self.shape, middle)
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
        soft = np.clip(0.8 + 0.35 * self._field(3.4, 0.6)(), 0.1, None)
        near = np.exp(-((from_heart / 0.42) ** 2))
        return (soft * (1.1 * near + 0.35 * smoothstep(1.6, 0.3, self._radius))).astype(np.float32)

    def _dust(self) -> F32:
        """Lanes and a few dark clouds in front of all."""
        bent = self._draw_bent(3.5, 0.55), self._draw_bent(3.4, 0.36)
        grain = self._field(3.1, 0.12)
        lanes = ridged(self._warped(bent[0], 0.05), 2.6)
        patches = smoothstep(0.75, 1.9, self._warped(bent[1], 0.04))
        inside = smoothstep(1.3, 0.35, self._radius)
        fine = np.clip(0.85 + 0.35 * grain(), 0.2, None)
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


def _back(
    rays: tuple[F32, ...], shape: tuple[int, int], middle: tuple[float, float]
) -> tuple[F32, ...]:
    """Planes of rays (angle, distance) as pictures."""
    x, y = np.meshgrid(
        np.arange(shape[1], dtype=np.float32) - np.float32(middle[0]),
        np.arange(shape[0], dtype=np.float32) - np.float32(middle[1]),
    )
    away, turn = cv2.cartToPolar(x, y)
    turn *= np.float32(_RAYS / (2 * np.pi))
    # the last ray meets the first
    around = cv2.copyMakeBorder(cv2.merge(rays), 0, 1, 0, 0, cv2.BORDER_WRAP)
    pictures = cv2.remap(around, away, turn, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    return tuple(np.asarray(p, np.float32) for p in cv2.split(pictures))

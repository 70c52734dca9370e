"""The shape of the stars of a plane: elliptical Moffat profiles (Moffat 1969) integrated over the
pixels, with what bright stars show beside them (Anderson & King 2000).
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.pixel_loops import BEND, DRAW, LEAST_U, POINTS, SLOPES

F64 = NDArray[np.float64]
Floats = NDArray[np.floating]
Numbers = NDArray[np.floating] | NDArray[np.int64]

AMPLITUDE, X, Y, WIDTH, E1, E2, BETA = range(7)
"""Columns of the parameters of a star: amplitude, place, ln FWHM, two of its ellipse, ln beta."""
PARAMETERS: Final = 7
TABLE_STEP: Final = 0.5
"""Pixels between points of the residual table."""
_GAUSS: Final = 0.5 / np.sqrt(3)  # two Gauss-Legendre points a side integrate a pixel
_NEAR: Final = 2.0  # star widths, |x| + |y|, up to which a profile bends too much within a pixel
_BENDS_ENOUGH: Final = 1.8  # px of FWHM from which the bend alone tells a core
FURTHEST_PX: Final = 90
"""No profile is drawn further out: what is beyond is sky."""


@dataclass(frozen=True)
class Second:
    """A second, wider Moffat profile in all stars: its share of the amplitude, how many times wider
    it is than the first (ln), and its ln beta.
    """

    share: float
    ln_ratio: float
    ln_beta: float


def moffat(
    dx: Floats, dy: Floats, p: F64, second: Second | None = None, roughly: bool = False
) -> Floats:
    """Profiles of amplitude 1, integrated over pixels at ``dx``, ``dy`` (N, P) from the middles of
    stars of parameters ``p`` (N, 7): (N, P), in the precision of ``dx``. ``roughly``: to a
    hundredth in the cores of stars two pixels wide.
    """
    p = p.astype(dx.dtype)
    shape = np.broadcast_shapes(dx.shape, dy.shape)
    x, y = (np.broadcast_to(d, shape) for d in (dx, dy))
    if roughly and np.exp(p[:, WIDTH].min()) > _BENDS_ENOUGH:
        return _by_bend(x, y, p, second)
    near = _nearby(x, y, p)
    out = np.empty(shape, dx.dtype)
    for those, profile in ((near, _by_points), (~near, _by_bend)):
        if those.any():
            out[:, those] = profile(x[:, those], y[:, those], p, second)
    return out


def _by_points(x: Floats, y: Floats, p: Floats, second: Second | None) -> Floats:
    """Integrated over pixels by points within each."""
    out = np.zeros(x.shape, x.dtype)
    loop = POINTS.get()
    if loop is not None and x.dtype == np.float32:
        loop(*_rows(x, y), _figures(p, second, len(_POINTS)), np.array(_POINTS), out)
        return out
    for share, ln_beta, ln_width in _components(p, second):
        for ox, oy in _POINTS:
            out += out.dtype.type(share) * _at(x + ox, y + oy, p, ln_beta, ln_width)[0]
    return out / out.dtype.type(len(_POINTS))


def _by_bend(x: Floats, y: Floats, p: Floats, second: Second | None) -> Floats:
    """Integrated over pixels by how the profile bends in the middle of each: a 24th of it."""
    out = np.zeros(x.shape, x.dtype)
    loop = BEND.get()
    if loop is not None and x.dtype == np.float32:
        loop(*_rows(x, y), _figures(p, second), out)
        return out
    kind = out.dtype.type
    a, b, c = 1 + p[:, E1, None], 1 - p[:, E1, None], p[:, E2, None]
    for share, ln_beta, ln_width in _components(p, second):
        one, ln_u, s, _, beta = _at(x, y, p, ln_beta, ln_width)
        s_over_u = s * np.exp(-ln_u)
        steep = (a * x + c * y) ** 2 + (b * y + c * x) ** 2
        bend = beta * s_over_u * ((beta + 1) * s_over_u * steep - 1)
        out += kind(share) * one * (1 + bend * kind(1 / 6))
    return out


def moffat_slopes(
    dx: F64, dy: F64, p: F64, second: Second | None = None, roughly: bool = False
) -> tuple[F64, F64]:
    """The same with its derivatives by x, y, ln FWHM, the ellipse and ln beta (N, P, 6);
    ``roughly``: at the middle of each pixel.
    """
    value, slopes = slopes_beside(dx, dy, p, second, roughly)
    return value.astype(np.float64), np.moveaxis(slopes, 1, 2).astype(np.float64)


def slopes_beside(
    dx: Floats, dy: Floats, p: F64, second: Second | None = None, roughly: bool = False
) -> tuple[F32, F32]:
    """The same in single precision, each derivative beside the others: (N, P) and (N, 6, P)."""
    extent = np.broadcast_shapes(dx.shape, dy.shape)
    x, y = (np.broadcast_to(d, extent).astype(np.float32) for d in (dx, dy))
    stars = p.astype(np.float32)
    points = _MIDDLE if roughly else _POINTS
    value: F32 = np.zeros(extent, np.float32)
    slopes: F32 = np.zeros((extent[0], 6, extent[1]), np.float32)
    loop = SLOPES.get()
    if loop is not None:
        figures = _figures(stars, second, len(points))
        loop(*_rows(x, y), figures, np.array(points), value, slopes)
        return value, slopes
    for number, (share, ln_beta, ln_width) in enumerate(_components(stars, second)):
        part, last = np.float32(share / len(points)), 5 if number else 6
        for ox, oy in points:
            one, slope = _slope(x + ox, y + oy, stars, ln_beta, ln_width)
            value += part * one
            slopes[:, :last] += part * slope[:, :last]
    return value, slopes


def _rows(x: Floats, y: Floats) -> tuple[F32, F32]:
    return np.ascontiguousarray(x, np.float32), np.ascontiguousarray(y, np.float32)


def _figures(p: Floats, second: Second | None, points: int = 1) -> F32:
    """Of the profiles that stars (N, 7) are made of, as compiled loops read them (n, N, 8): share
    for each of some ``points``, beta, what its square of a distance is multiplied by, the ellipse,
    how that changes with ln beta, and whether it does.
    """
    parts = _components(p, second)
    out = np.empty((len(parts), len(p), 8), np.float32)
    for number, (share, ln_beta, ln_width) in enumerate(parts):
        beta, square = np.exp(ln_beta[:, 0]), np.exp(-2 * ln_width[:, 0])
        root = 2 ** (1 / beta)
        ellipse = 1 + p[:, E1], 1 - p[:, E1], 2 * p[:, E2]
        by_beta = -4 * square * root * np.float32(np.log(2)) / beta
        out[number, :, 0], out[number, :, 7] = share / points, number == 0
        told = [beta, 4 * (root - 1) * square, *ellipse, by_beta]
        out[number, :, 1:7] = np.stack(told, axis=1)
    return out


def _nearby(x: Floats, y: Floats, p: Floats) -> Mask:
    """Which pixels (P,) of stars (N, 7) lie where profiles bend much within one."""
    away = (np.abs(x) + np.abs(y)).min(axis=0)
    return np.asarray(away < _NEAR * float(np.exp(p[:, WIDTH].max())), np.bool_)


_MIDDLE: Final = ((np.float32(0), np.float32(0)),)
_POINTS: Final = tuple(
    (np.float32(x), np.float32(y)) for x in (-_GAUSS, _GAUSS) for y in (-_GAUSS, _GAUSS)
)


def _components(p: Floats, second: Second | None) -> list[tuple[float, Floats, Floats]]:
    """Share, ln beta and ln FWHM (N, 1) of the profiles that a star is made of."""
    beta, width = p[:, BETA, None], p[:, WIDTH, None]
    if second is None:
        return [(1.0, beta, width)]
    wide = np.full_like(beta, second.ln_beta)
    ratio = p.dtype.type(second.ln_ratio)
    return [(1 - second.share, beta, width), (second.share, wide, width + ratio)]


def _slope(
    x: Floats, y: Floats, p: Floats, ln_beta: Floats, ln_width: Floats
) -> tuple[Floats, Floats]:
    one, ln_u, s, q, beta = _at(x, y, p, ln_beta, ln_width)
    by_u = -beta * one * np.exp(-ln_u)
    a, b, c = (1 + p[:, E1, None]), (1 - p[:, E1, None]), 2 * p[:, E2, None]
    s_by_ln_beta = -4 * np.exp(-2 * ln_width) * 2 ** (1 / beta) * np.float32(np.log(2)) / beta
    by_q = by_u * s
    slope = np.empty((one.shape[0], 6, one.shape[1]), np.float32)
    slope[:, 0] = by_q * -(2 * a * x + c * y)
    slope[:, 1] = by_q * -(2 * b * y + c * x)
    slope[:, 2] = by_q * q * -2
    slope[:, 3] = by_q * (x * x - y * y)
    slope[:, 4] = by_q * 2 * x * y
    slope[:, 5] = -beta * one * ln_u + by_u * q * s_by_ln_beta
    return one, slope


def _at(
    x: Floats, y: Floats, p: Floats, ln_beta: Floats, ln_width: Floats
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    beta = np.exp(ln_beta)
    s = 4 * (2 ** (1 / beta) - 1) * np.exp(-2 * ln_width)
    q = (1 + p[:, E1, None]) * x * x + (1 - p[:, E1, None]) * y * y + 2 * p[:, E2, None] * x * y
    ln_u = np.log(np.maximum(1 + s * q, LEAST_U))
    return np.exp(-beta * ln_u), ln_u, s, q, beta


def quadratic(u: F64, v: F64) -> F64:
    """Terms (N, 6) of a quadratic at places (N,)."""
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=1)


def pixels_about(
    p: F64, dx: NDArray[np.int64], dy: NDArray[np.int64], extent: tuple[int, ...]
) -> tuple[NDArray[np.int64], NDArray[np.int64], Mask]:
    """Columns and rows (N, P) at steps (P,) from the middle pixels of stars (N, 7), and which are
    on a plane of ``extent`` (H, W); the others are its nearest.
    """
    columns = np.rint(p[:, X]).astype(int)[:, None] + dx
    rows = np.rint(p[:, Y]).astype(int)[:, None] + dy
    there = (columns >= 0) & (columns < extent[1]) & (rows >= 0) & (rows < extent[0])
    return np.clip(columns, 0, extent[1] - 1), np.clip(rows, 0, extent[0] - 1), there


@dataclass(frozen=True)
class Shape:
    """The shape of the stars over a plane of ``extent`` (H, W): ln FWHM and the ellipse as
    quadratics (3, 6) of the place, one ``ln_beta``, a ``second`` profile
    where one does not tell cores and wings alike, and a ``table`` (n, n) of what is left of
    bright stars, per amplitude, at steps of half a pixel about the middle.
    """

    extent: tuple[int, int]
    quadratics: F64
    ln_beta: float
    second: Second | None = None
    table: F32 | None = field(default=None, compare=False)

    @classmethod
    def even(cls, extent: tuple[int, int], fwhm: float, beta: float) -> Shape:
        """The same round shape everywhere."""
        quadratics = np.zeros((3, 6))
        quadratics[0, 0] = np.log(fwhm)
        return cls(extent, quadratics, float(np.log(beta)))

    def at(self, x: F64, y: F64) -> F64:
        """ln FWHM and the ellipse at places (N,): (N, 3)."""
        return np.asarray(self.terms(x, y) @ self.quadratics.T, np.float64)

    def terms(self, x: F64, y: F64) -> F64:
        """Terms of a quadratic at places (N,): (N, 6)."""
        height, width = self.extent
        u = np.clip(2 * np.asarray(x, float) / max(width - 1, 1) - 1, -1, 1)
        v = np.clip(2 * np.asarray(y, float) / max(height - 1, 1) - 1, -1, 1)
        return quadratic(u, v)

    def stars(self, x: F64, y: F64, amplitude: F64) -> F64:
        """Parameters (N, 7) of stars of this shape."""
        out = np.empty((len(x), PARAMETERS))
        out[:, AMPLITUDE], out[:, X], out[:, Y] = amplitude, x, y
        out[:, WIDTH : E2 + 1] = self.at(x, y)
        out[:, BETA] = self.ln_beta
        return out

    def values(self, p: F64, columns: Numbers, rows: Numbers, roughly: bool = False) -> F32:
        """Light of stars (N, 7) at pixels (N, P), in single precision."""
        dx = (columns - p[:, X, None]).astype(np.float32)
        dy = (rows - p[:, Y, None]).astype(np.float32)
        light = moffat(dx, dy, p, self.second, roughly) + self.left_at(dx, dy)
        return np.asarray(light * p[:, AMPLITUDE, None].astype(np.float32), np.float32)

    def draw(self, plane: F32, p: F64, reach: NDArray[np.int64], sign: float) -> bool:
        """Add the light of one star or more (N, 7), times ``sign``, to a plane, in place, out to a
        ``reach`` (N,); False where that has to be done the plain way.
        """
        loop = DRAW.get()
        if loop is None:
            return False
        bends = _NEAR * np.exp(p[:, WIDTH]) + 1  # px: as far as for stars that lie otherwise
        stars = np.stack([p[:, X], p[:, Y], sign * p[:, AMPLITUDE], bends], axis=1)
        single = p.astype(np.float32)
        whole, near = (_figures(single, self.second, n) for n in (1, len(_POINTS)))
        # it fades to nought over the step beyond its edge
        table = np.zeros((2, 2), np.float32) if self.table is None else np.pad(self.table, 1)
        per_pixel = np.float32(1 / TABLE_STEP)
        loop(plane, stars, reach, whole, near, np.array(_POINTS), table, per_pixel)
        return True

    def left_at(self, dx: Floats, dy: Floats) -> F32 | np.float32:
        """The table at distances from the middle of a star."""
        if self.table is None:
            return np.float32(0)
        half = (self.table.shape[0] - 1) / 2
        at = [
            np.ascontiguousarray(d / TABLE_STEP + half, np.float32).reshape(d.shape[0], -1)
            for d in (dx, dy)
        ]
        found = cv2.remap(
            self.table, at[0], at[1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT
        )
        return np.asarray(found, np.float32).reshape(dx.shape)

    def with_table(self, table: F32 | None) -> Shape:
        """With another table."""
        return replace(self, table=table)

    def reach(self, p: F64, least: float) -> NDArray[np.int64]:
        """How far out (px) the light of stars (N, 7) is above ``least``."""
        out = np.zeros(len(p))
        for share, ln_beta, ln_width in _components(p, self.second):
            beta = np.exp(ln_beta[:, 0])
            alpha = np.exp(ln_width[:, 0]) / (2 * np.sqrt(2 ** (1 / beta) - 1))
            above = np.maximum(share * np.abs(p[:, AMPLITUDE]) / max(least, 1e-30), 1.0)
            out = np.maximum(out, alpha * np.sqrt(above ** (1 / beta) - 1))
        if self.table is not None:
            out = np.maximum(out, (self.table.shape[0] - 1) / 2 * TABLE_STEP)
        return np.clip(np.ceil(out).astype(int) + 1, 2, FURTHEST_PX)

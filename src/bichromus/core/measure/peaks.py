"""Peaks where a star would stand out of a bending ground, sought tile by tile on what a model of
known stars leaves.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32, Mask
from ..numerics.bands import mirrored, ordered_parallel
from ..numerics.robust import FWHM_TO_SIGMA, MAD_TO_SIGMA
from .mesh import Meshes, mesh_at
from .profiles import AMPLITUDE, F64, X, Y

_BLURS: Final = (1.0, 1.6, 2.0)
"""Of a star's own blur: three Gaussians whose sum is blind to a ground that bends. It tells .75 of
the SNR that no ground at all would allow.
"""
_REACH: Final = 3.6  # sigma of a Gaussian that its taps hold
_STANDS_OUT: Final = 5.0  # sigma of the response
_TEXTURE: Final = 0.8  # of the local scatter of the response, that counts as noise
_MODEL_ERROR: Final = 0.02  # share of a star's light that its model may be wrong by (METHOD 6)
_APART: Final = 0.6  # star widths that two peaks are apart
_EVERY: Final = 3  # pixels of which one tells the scatter
_TILE: Final = (6, 12)  # meshes of a tile: its planes stay in a core's cache
_AROUND: Final = 4.0  # star widths about a known star that are looked at again
_HIDES: Final = 10.0  # sigma of a star in whose ring another may go unseen
_MOST_AGAIN: Final = 0.5  # of the plane, in boxes about stars: beyond, all of it is looked at
_BOXES: Final = 48  # about stars, looked at together: they stay in a core's cache
_THREADS: Final = 2


@dataclass(frozen=True)
class Noise:
    """Noise per pixel in meshes of a plane."""

    grid: F64
    middle: float

    def at(self, x: F64, y: F64, extent: tuple[int, int]) -> F64:
        """At places (N,)."""
        return mesh_at(self.grid, x, y, extent)


@dataclass(frozen=True)
class _Tile:
    """Rows and columns of a plane, and of its meshes."""

    rows: slice
    columns: slice
    meshes: tuple[slice, slice]


@dataclass(frozen=True)
class _Seen:
    """Peaks (N,) of a tile with their heights, and the scatter of its response in meshes."""

    x: F64
    y: F64
    height: F64
    texture: F64


class PeakSearch:
    """Looks for peaks on one plane (H, W) in several rounds."""

    def __init__(self, plane: F32, noise: Noise, use: Mask | None) -> None:
        self.plane, self.noise, self.use = plane, noise, use
        self._extent = (plane.shape[0], plane.shape[1])
        self._meshes = Meshes.of(self._extent, _EVERY)
        self._texture = np.zeros((self._meshes.rows, self._meshes.columns))

    def find(
        self, model: F32 | None, width: float, near: F64 | None = None
    ) -> tuple[F64, F64, F64]:
        """Places and amplitudes (N,) of what stands out of what the ``model`` (H, W) leaves (None:
        no star is known yet), for stars of a ``width`` (FWHM, px); ``near`` loud ones of these
        stars (N, 7) only, where given: elsewhere nothing has changed.
        """
        boxes = None if near is None or model is None else self._boxes(near, model, width)
        x, y, height = self._everywhere(model, width) if boxes is None else boxes
        if not len(x):
            return x, y, height
        out = height > _STANDS_OUT * self._noise(x, y, model, width)
        return x[out], y[out], height[out]

    def _everywhere(self, model: F32 | None, width: float) -> tuple[F64, F64, F64]:
        tiles = self._tiles()

        def look(tile: _Tile) -> tuple[_Tile, _Seen]:
            return tile, self._look(tile, model, width)

        found = list(ordered_parallel(look, iter(tiles), _THREADS if len(tiles) > 1 else 1))
        for tile, seen in found:
            self._texture[tile.meshes] = seen.texture
        x, y, height = (
            np.concatenate([getattr(seen, name) for _, seen in found])
            for name in ("x", "y", "height")
        )
        return x, y, height

    def _boxes(self, stars: F64, model: F32, width: float) -> tuple[F64, F64, F64] | None:
        """Peaks in boxes about loud stars (N, 7); None where these are most of the plane."""
        noise = self._noise(stars[:, X], stars[:, Y], None, width)
        stars = stars[stars[:, AMPLITUDE] > _HIDES * noise]
        size = _apart(width)
        reach = int(np.ceil(_AROUND * width))
        margin = _margin(width, size)
        side = 2 * (reach + margin) + 1
        if len(stars) * side**2 > _MOST_AGAIN * self.plane.size:
            return None
        step = np.arange(side) - reach - margin
        least = np.float32(_STANDS_OUT * _TEXTURE * self._texture.min())
        inner = slice(margin, margin + 2 * reach + 1)

        def look(batch: slice) -> tuple[NDArray[np.int64], F32]:
            columns, rows = (np.rint(stars[batch, k]).astype(int)[:, None] + step for k in (X, Y))
            at = mirrored(rows, self._extent[0])[:, :, None] * self._extent[1]
            at = at + mirrored(columns, self._extent[1])[:, None, :]
            rest = np.take(self.plane, at) - np.take(model, at)
            response = _response(rest.reshape(-1, side), width)
            highest = cv2.dilate(response, _disc(size)).reshape(rest.shape)
            response = response.reshape(rest.shape)[:, inner, inner]
            top = (response >= highest[:, inner, inner]) & (response > least)
            top &= (_there(rows[:, inner], self._extent[0]))[:, :, None]
            top &= (_there(columns[:, inner], self._extent[1]))[:, None, :]
            found = np.flatnonzero(top)
            places = at[:, inner, inner].reshape(-1)[found]
            return places, response.reshape(-1)[found]

        batches = [slice(i, i + _BOXES) for i in range(0, len(stars), _BOXES)]
        seen = list(ordered_parallel(look, iter(batches), _THREADS if len(batches) > 1 else 1))
        if not seen:
            return np.zeros(0), np.zeros(0), np.zeros(0)
        places, first = np.unique(np.concatenate([p for p, _ in seen]), return_index=True)
        height = np.concatenate([h for _, h in seen])[first].astype(float)
        if self.use is not None:
            there = np.take(self.use, places)
            places, height = places[there], height[there]
        y, x = np.divmod(places, self._extent[1])
        return x.astype(float), y.astype(float), height

    def _noise(self, x: F64, y: F64, model: F32 | None, width: float) -> F64:
        """Of the response at places (N,), and by how much a ``model`` of light may be wrong."""
        _, norm = _WEIGHTS
        white = norm / (width / FWHM_TO_SIGMA) * self.noise.at(x, y, self._extent)
        noise = np.maximum(white, _TEXTURE * mesh_at(self._texture, x, y, self._extent))
        if model is None:
            return np.asarray(noise, np.float64)
        light = model[y.astype(int), x.astype(int)]
        return np.asarray(np.hypot(noise, _MODEL_ERROR * light), np.float64)

    def _tiles(self) -> list[_Tile]:
        mesh = self._meshes
        out = []
        for r0 in range(0, mesh.rows, _TILE[0]):
            for c0 in range(0, mesh.columns, _TILE[1]):
                r1, c1 = min(r0 + _TILE[0], mesh.rows), min(c0 + _TILE[1], mesh.columns)
                rows, columns = mesh.pixels(slice(r0, r1), slice(c0, c1), self._extent)
                out.append(_Tile(rows, columns, (slice(r0, r1), slice(c0, c1))))
        return out

    def _look(self, tile: _Tile, model: F32 | None, width: float) -> _Seen:
        size = _apart(width)
        margin = _margin(width, size)
        rows, columns = (
            slice(max(s.start - margin, 0), min(s.stop + margin, n))
            for s, n in zip((tile.rows, tile.columns), self._extent, strict=True)
        )
        rest = self.plane[rows, columns]
        if model is not None:
            rest = rest - model[rows, columns]
        response = _response(rest, width)
        highest = cv2.dilate(response, _disc(size))
        inner = tuple(
            slice(s.start - a.start, s.stop - a.start)
            for s, a in zip((tile.rows, tile.columns), (rows, columns), strict=True)
        )
        response, highest = response[inner], highest[inner]
        size_r, size_c = (s.stop - s.start for s in tile.meshes)
        texture = MAD_TO_SIGMA * self._meshes.medians(
            np.abs(response), (size_r, size_c), roughly=True
        )
        top = response >= highest
        top &= response > np.float32(_STANDS_OUT * _TEXTURE * texture.min())
        if self.use is not None:
            top &= self.use[tile.rows, tile.columns]
        y, x = np.divmod(np.flatnonzero(top), top.shape[1])
        height = response[y, x].astype(float)
        return _Seen(
            x.astype(float) + tile.columns.start, y.astype(float) + tile.rows.start, height, texture
        )


def _apart(width: float) -> int:
    """Side of a disc that holds one peak."""
    return 2 * max(1, round(_APART * width)) + 1


def _margin(width: float, size: int) -> int:
    """Pixels beyond a part that tell something of it."""
    return int(np.ceil(_REACH * max(_BLURS) * width / FWHM_TO_SIGMA)) + size


def _disc(size: int) -> NDArray[np.uint8]:
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)), np.uint8)


def _there(places: NDArray[np.int64], count: int) -> Mask:
    return np.asarray((places >= 0) & (places < count), np.bool_)


def _response(rest: F32, width: float) -> F32:
    """The amplitude of a star of a width (FWHM, px) at every pixel (h, w). Each blur goes on from
    the one before.
    """
    blur = width / FWHM_TO_SIGMA
    share, _ = _WEIGHTS
    out = np.zeros_like(rest)
    one, before = rest, 0.0
    for part, wide in zip(share, _BLURS, strict=True):
        more = float(np.sqrt(wide**2 - before**2)) * blur
        size = 2 * int(np.ceil(_REACH * more)) + 1
        one = np.asarray(
            cv2.GaussianBlur(one, (size, size), more, borderType=cv2.BORDER_REFLECT_101), np.float32
        )
        cv2.scaleAdd(one, float(part), out, out)
        before = wide
    return out


def _weights() -> tuple[F64, float]:
    """Of the three Gaussians: they sum to nought on a plane and on what bends evenly, and to one in
    the middle of a star; and the norm of their sum for a blur of one pixel.
    """
    t: NDArray[np.float64] = np.array(_BLURS)
    flat = np.stack([np.ones(2), t[1:] ** 2])
    k = np.concatenate([[1.0], np.linalg.solve(flat, np.array([-1.0, -(t[0] ** 2)]))])
    k /= (k / (1 + t * t)).sum()
    square = (k[:, None] * k / (2 * np.pi * (t[:, None] ** 2 + t**2))).sum()
    return k, float(np.sqrt(square))


_WEIGHTS: Final = _weights()

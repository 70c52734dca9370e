"""The one driver of the engine: for the screen, a thumbnail, the whole picture band by band, and
the command line.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Final, Protocol

import cv2
import numpy as np

from ..model.measures import Stars, Surface
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from ..model.recipe import Recipe
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.sampling import View, sample
from ..numerics.smoothing import fill
from .companions import glow_plane, half_size, star_plane
from .engine import Blender

BAND_ROWS: Final = 32
"""Rows of a band: its planes of a wide picture stay in a core's cache."""
_TOP: Final = {"uint16": 65535.0, "uint8": 255.0}
_SMALLEST_PX: Final = 200
_KEPT: Final = 6
"""Companions kept at once: those of a few sets of channels, as palettes are stepped through."""

Pyramid = tuple[F32, ...]


class PlaneSource(Protocol):
    """A background-0 channel as the driver reads it. ``key`` names its data: the same key, the same
    pixels.
    """

    @property
    def key(self) -> str:
        """Name of the data."""
        ...

    def seen(self, view: View) -> F32:
        """The plane through a view, (height, width)."""
        ...

    def half_res(self) -> F32:
        """The whole plane at half size."""
        ...

    def stars(self) -> Stars:
        """Its stars."""
        ...


@dataclass(frozen=True)
class RowSource:
    """A channel on disk or in memory, read in rows at one to one: ``rows(y0, y1)`` as stored, and
    the background to take off. ``find`` gives its stars.
    """

    rows: Callable[[int, int], np.ndarray]
    background: Surface
    find: Callable[[F32], Stars]
    key: str = ""

    def seen(self, view: View) -> F32:
        """Whole rows. Raises ValueError for a view that is not at one to one."""
        if view.step != 1 or view.x0 != 0 or view.width != self.background.width:
            raise ValueError("rows are read whole, at one to one")
        return self.clean(int(view.y0), int(view.y0) + view.height)

    def clean(self, y0: int, y1: int) -> F32:
        """Rows y0 to y1 without their background."""
        out = np.array(self.rows(y0, y1), np.float32)
        out -= self.background.rows(y0, y1)
        return out

    def half_res(self) -> F32:
        """The whole plane at half size; what is missing is filled from around it."""
        return half_size(self._whole())

    def stars(self) -> Stars:
        """Stars of the whole plane."""
        return self.find(self._whole())

    def _whole(self) -> F32:
        plane = self.clean(0, self.background.height)
        missing = plane != plane
        return fill(plane, missing) if missing.any() else plane


@dataclass
class Clipped:
    """Share of output values at the very bottom and top, counted as bands pass."""

    low: float = 0.0
    high: float = 0.0
    _count: int = 0

    def add(self, code: F32) -> None:
        """Count a band of code (3, H, W)."""
        share = code.size / max(self._count + code.size, 1)
        self.low += (float(np.count_nonzero(code <= 0)) / code.size - self.low) * share
        self.high += (float(np.count_nonzero(code >= 1)) / code.size - self.high) * share
        self._count += code.size


class Renderer:
    """Renders one set of channels of ``shape`` (H, W) under any recipe. Companions are made when a
    setting first needs them, and kept by the data that they were made of. Thread-safe.
    """

    def __init__(self, sources: Mapping[str, PlaneSource], shape: tuple[int, int]) -> None:
        self.sources = dict(sources)
        self.shape = shape
        self._companions: OrderedDict[tuple[str, ...], Pyramid] = OrderedDict()
        self._lock = threading.Lock()

    def code(self, recipe: Recipe, view: View) -> F32:
        """The picture through a view as sRGB code (3, height, width). Raises UnsupportedData."""
        return self._code(Blender(recipe), recipe, view)

    def bands(
        self,
        recipe: Recipe,
        shape: tuple[int, int],
        dtype: str,
        progress: Progress = SILENT,
        text: str = "writing the picture",
        clipped: Clipped | None = None,
        threads: int = 2,
    ) -> Iterator[np.ndarray]:
        """The whole picture at ``shape`` (H, W) as bands (rows, W, 3) of ``dtype`` from top to
        bottom. Memory is bounded by the band.
        """
        blender = Blender(recipe)
        self.companions(recipe)
        step = max(self.shape) / max(shape)

        def work(band: tuple[int, int]) -> tuple[int, F32, np.ndarray]:
            y0, y1 = band
            view = View(0.0, y0 * step, step, shape[1], y1 - y0)
            code = self._code(blender, recipe, view)
            return y1, code, quantise(code, dtype)

        before = cv2.getNumThreads()
        cv2.setNumThreads(1)  # the bands already fill the cores
        try:
            for y1, code, pixels in ordered_parallel(work, row_bands(shape[0], BAND_ROWS), threads):
                progress.step(y1 / shape[0], text)
                if clipped is not None:
                    clipped.add(code)
                yield pixels
        finally:
            cv2.setNumThreads(before)

    def companions(self, recipe: Recipe) -> tuple[Pyramid | None, Pyramid | None]:
        """Pyramids of the glow and the star plane at half size; None where the settings need
        none.
        """
        names, colour = recipe.settings.used(), recipe.settings.colour
        glow = self._glow(recipe, names) if colour.saturation != 1.0 else None
        stars = self._stars(names) if colour.star_colour != 1.0 else None
        return glow, stars

    def _code(self, blender: Blender, recipe: Recipe, view: View) -> F32:
        planes = [self.sources[n].seen(view) for n in blender.names]
        glow, stars = (
            sample(c, view, 1, cv2.BORDER_REPLICATE) if c is not None else None
            for c in self.companions(recipe)
        )
        return blender.render(planes, glow, stars)

    def _glow(self, recipe: Recipe, names: tuple[str, ...]) -> Pyramid:
        noise = [repr(recipe.channels[n].sigma_eff or recipe.channels[n].sigma_px) for n in names]
        key = ("glow", *(self.sources[n].key for n in names), *noise)
        return self._kept(
            key,
            lambda: glow_plane((self.sources[n].half_res(), recipe.channels[n]) for n in names),
        )

    def _stars(self, names: tuple[str, ...]) -> Pyramid:
        key = ("stars", *(self.sources[n].key for n in names))
        return self._kept(
            key, lambda: star_plane(self.shape, [self.sources[n].stars() for n in names])
        )

    def _kept(self, key: tuple[str, ...], make: Callable[[], F32]) -> Pyramid:
        with self._lock:  # two threads that ask at once wait for one making
            found = self._companions.get(key)
            if found is None:
                found = self._companions[key] = _pyramid(make())
                while len(self._companions) > _KEPT:
                    self._companions.popitem(last=False)
            self._companions.move_to_end(key)
            return found


def quantise(code: F32, dtype: str) -> np.ndarray:
    """(3, H, W) code 0..1 to (H, W, 3) of uint16, uint8 or float32."""
    seen = np.moveaxis(code, 0, -1)
    if dtype == "float32":
        return np.ascontiguousarray(seen)
    top = np.float32(_TOP[dtype])
    return (seen * top + np.float32(0.5)).astype(dtype)


def _pyramid(plane: F32) -> Pyramid:
    levels = [plane]
    while max(levels[-1].shape) > _SMALLEST_PX:
        levels.append(half_size(levels[-1]))
    return tuple(levels)

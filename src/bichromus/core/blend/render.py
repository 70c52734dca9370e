"""The one driver of the engine: for the screen, a thumbnail, the whole picture band by band, and
the command line.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Protocol

import cv2
import numpy as np

from ..model.errors import UnsupportedData
from ..model.measures import Stars, Surface
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from ..model.recipe import Recipe
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.sampling import View, sample
from ..numerics.smoothing import fill
from .companions import companion_of, half_size
from .engine import Blender
from .inputs import DISCS, READ, STARS, Key, inputs_of

BAND_ROWS: Final = 32
"""Rows of a band: its planes of a wide picture stay in a core's cache."""
_TOP: Final = {"uint16": 65535.0, "uint8": 255.0}
_SMALLEST_PX: Final = 200
_KEPT: Final = 12
"""Companions kept at once: those of a few sets of channels, as palettes are stepped through."""
_SEEN_BYTES: Final = 320 * 2**20
"""Planes through a view that are kept: those of a large screen, for a picture and the last one."""

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


@dataclass(frozen=True)
class HalfSource:
    """A plane kept at half size."""

    plane: F32
    key: str

    def seen(self, view: View) -> F32:
        """The plane through a view."""
        return sample((self.plane,), view, 1, cv2.BORDER_REPLICATE)

    def half_res(self) -> F32:
        """As it is kept."""
        return self.plane

    def stars(self) -> Stars:
        """None: it is no channel."""
        return Stars(0, None, None, None, 0)


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
    """Renders one set of channels of ``shape`` (H, W) under any recipe: from their ``starless``
    planes where the recipe's figures say so, with ``stars``, sets of planes in R, G and B by their
    source; ``removable`` are the fine and coarse noise that can be taken off. Companions are made
    when a setting first needs them, and kept by the data that they were made of. Thread-safe.
    """

    def __init__(
        self,
        sources: Mapping[str, PlaneSource],
        shape: tuple[int, int],
        starless: Mapping[str, PlaneSource] | None = None,
        stars: Mapping[str, Sequence[PlaneSource]] | None = None,
        removable: Mapping[str, tuple[PlaneSource, PlaneSource]] | None = None,
    ) -> None:
        self.sources = dict(sources)
        self.shape = shape
        self.removable = dict(removable or {})
        self.starless = dict(starless or {})
        self.stars = dict(stars or {})
        self._companions: OrderedDict[tuple[object, ...], Pyramid] = OrderedDict()
        self._seen: OrderedDict[tuple[str, View], F32] = OrderedDict()
        self._lock = threading.Lock()
        self._seen_lock = threading.Lock()

    def code(self, recipe: Recipe, view: View) -> F32:
        """The picture through a view as sRGB code (3, height, width). Raises UnsupportedData."""
        blender = Blender(recipe)
        return blender.render(self._planes(blender, view, self._kept_seen))

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
        self.prepare(recipe)
        step = max(self.shape) / max(shape)

        def work(band: tuple[int, int]) -> tuple[int, F32, np.ndarray]:
            y0, y1 = band
            view = View(0.0, y0 * step, step, shape[1], y1 - y0)
            code = blender.render(self._planes(blender, view, _seen))
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

    def prepare(self, recipe: Recipe) -> None:
        """Make the companions that a recipe needs, where they are not there yet."""
        for key in inputs_of(recipe):
            if key.kind not in READ:
                self.companion(recipe, key)

    def companion(self, recipe: Recipe, key: Key) -> Pyramid:
        """The pyramid of a companion plane, from half size on."""
        names, make = companion_of(recipe, key)
        sources = [self._source(recipe, n) for n in names]
        what = (key, *(s.key for s in sources), *_noises(recipe, names))
        if key.kind == "lift":
            what = (*what, recipe.figures.lifts[key.name].k)
        return self._kept(what, lambda: make([_read(s, key) for s in sources], self.shape))

    def _source(self, recipe: Recipe, name: str) -> PlaneSource:
        return (self.starless if recipe.channels[name].starless else self.sources)[name]

    def _planes(self, blender: Blender, view: View, seen: Look) -> dict[Key, F32]:
        found = {}
        for key in blender.inputs:
            if key.kind == "channel":
                found[key] = seen(self._source(blender.recipe, key.name), view)
            elif key.kind in ("fine", "coarse"):
                found[key] = seen(self.removable[key.name][key.kind == "coarse"], view)
            elif key.kind == "star":
                found[key] = seen(self._star_source(blender.recipe, key), view)
            else:
                levels = self.companion(blender.recipe, key)
                found[key] = sample(levels, view, 1, cv2.BORDER_REPLICATE)
        return found

    def _star_source(self, recipe: Recipe, key: Key) -> PlaneSource:
        found = recipe.star_set()
        if found is None or found.source not in self.stars:
            raise UnsupportedData(
                "The stars of this picture are not there",
                why="they were not split off",
                do="Split the stars of its channels, or leave them in",
            )
        return self.stars[found.source][STARS.index(key)]

    def _kept_seen(self, source: PlaneSource, view: View) -> F32:
        """A plane through a view, kept while views of the same size are asked for: a slider moves
        the recipe and not the view.
        """
        with self._seen_lock:
            found = self._seen.get((source.key, view))
            if found is not None:
                self._seen.move_to_end((source.key, view))
                return found
        plane = source.seen(view)
        with self._seen_lock:
            self._seen[source.key, view] = plane
            while sum(p.nbytes for p in self._seen.values()) > _SEEN_BYTES:
                self._seen.popitem(last=False)
        return plane

    def _kept(self, key: tuple[object, ...], make: Callable[[], F32]) -> Pyramid:
        with self._lock:  # two threads that ask at once wait for one making
            found = self._companions.get(key)
            if found is None:
                found = self._companions[key] = _pyramid(make())
                while len(self._companions) > _KEPT:
                    self._companions.popitem(last=False)
            self._companions.move_to_end(key)
            return found


Look = Callable[[PlaneSource, View], F32]
"""How a plane is read through a view."""


def _seen(source: PlaneSource, view: View) -> F32:
    return source.seen(view)


def _read(source: PlaneSource, key: Key) -> F32 | Stars:
    return source.stars() if key == DISCS else source.half_res()


def _noises(recipe: Recipe, names: Sequence[str]) -> list[float]:
    return [recipe.channels[n].sigma_large for n in names]


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

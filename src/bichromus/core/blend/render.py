"""The one driver of the engine: for screen, thumbnails, whole pictures by bands, command line."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Final

import numpy as np

from ..model.errors import InputError, UnsupportedData
from ..model.mask import Mask
from ..model.measures import Stars
from ..model.planes import F32
from ..model.progress import SILENT, Progress
from ..model.recipe import Recipe
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.placement import Box, Placement, placed
from ..numerics.sampling import View, whole_view
from ..numerics.smoothing import gaussian
from ..numerics.spaces import SRGB, Space
from .colour_stage import mask_weights
from .companions import companion_of, half_size
from .engine import Blender
from .inputs import BASE, DISCS, READ, SEEN, STARS, Key, base_of, inputs_of, lines_on_top
from .pixels import Clipped, quantise
from .sight import CompanionView, Look, Made, Sight, seen_afresh, smoothed
from .sources import PlaneSource
from .tone import Cores

BAND_ROWS: Final = 32
"""Rows of a band: its planes of a wide picture stay in a core's cache."""
_SMALLEST_PX: Final = 200
_KEPT: Final = 12
"""Companions kept at once: those of a few sets of channels, as palettes are stepped through."""
_CORES_PX: Final = 160
"""Longer side of the small picture that tells where bright cores begin."""

Pyramid = tuple[F32, ...]


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
        self._companions: OrderedDict[Made, Pyramid] = OrderedDict()
        self._sight = Sight()
        self._known_cores: tuple[tuple[Recipe, float], Cores] | None = None
        self._lock = threading.Lock()
        self._cores_lock = threading.Lock()

    def placement(self, recipe: Recipe) -> Placement | None:
        """How the picture of a recipe lies on the grid; None where it lies on it as it is. Raises
        InputError for a crop outside.
        """
        finish = recipe.settings.finish
        try:
            found = placed(self.shape, finish.crop, finish.flip, finish.turn, finish.trim)
        except ValueError as error:
            raise InputError(
                "This crop lies outside the picture",
                why=f"the picture has {self.shape[1]} x {self.shape[0]} pixels",
                do="Choose a crop that holds part of it",
            ) from error
        return None if found.plain and found.shape == self.shape else found

    def shape_of(self, recipe: Recipe) -> tuple[int, int]:
        """Height and width of the picture of a recipe."""
        found = self.placement(recipe)
        return self.shape if found is None else found.shape

    def code(self, recipe: Recipe, view: View) -> F32:
        """The picture through a view as sRGB code (3, height, width). Raises UnsupportedData."""
        blender = self._blender(recipe)
        view = replace(view, placement=self.placement(recipe))
        return blender.render(self._planes(blender, view, self._sight.kept))

    def weight(self, recipe: Recipe, mask: Mask, view: View) -> F32:
        """How much a mask takes of each pixel of a view, (height, width), 0 to 1."""
        seen = mask.model_copy(update={"on": True, "lightness": mask.lightness or 1e-6})
        alone = base_of(recipe)
        settings = alone.settings.model_copy(update={"masks": (seen,)})
        alone = alone.model_copy(update={"settings": settings})
        self.prepare(alone)
        placed_view = replace(view, placement=self.placement(recipe))
        planes = self._planes(Blender(alone), placed_view, self._sight.kept)
        flat = {k: (p.reshape(3, -1) if k == BASE else p.reshape(-1)) for k, p in planes.items()}
        return mask_weights(alone, flat)[0].reshape(view.height, view.width)

    def lifted(self, recipe: Recipe, view: View) -> F32:
        """How far lines on top act on each pixel of a view, (height, width), 0 to 1."""
        view = replace(view, placement=self.placement(recipe))
        out = np.zeros((view.height, view.width), np.float32)
        for name in lines_on_top(recipe):
            source = self._companion_source(recipe, Key("lift", name))
            np.maximum(out, self._sight.kept(source, view), out=out)
        return out

    def _blender(self, recipe: Recipe) -> Blender:
        """Made ready, with what it must know of the whole picture."""
        return Blender(recipe, self._cores(recipe) if recipe.settings.tone.cores > 0 else None)

    def _cores(self, recipe: Recipe) -> Cores:
        base, px = base_of(recipe), recipe.settings.tone.cores_px
        with self._cores_lock:  # two threads that ask at once wait for one finding
            if self._known_cores is None or self._known_cores[0] != (base, px):
                view = whole_view(self.shape, _CORES_PX)
                lab = self._lab(base, view, self._sight.kept)
                found = Cores.of(gaussian(lab[0], px / view.step))
                self._known_cores = ((base, px), found)
            return self._known_cores[1]

    def bands(
        self,
        recipe: Recipe,
        shape: tuple[int, int],
        dtype: str,
        progress: Progress = SILENT,
        text: str = "writing the picture",
        clipped: Clipped | None = None,
        threads: int = 2,
        box: Box | None = None,
        space: Space = SRGB,
    ) -> Iterator[np.ndarray]:
        """The picture, or a ``box`` of it, at ``shape`` (H, W) as bands (rows, W, 3) of ``dtype``
        from top to bottom, as code of a colour ``space``. Memory is bounded by the band.
        """
        blender = self._blender(recipe)
        self.prepare(recipe)
        placement = self.placement(recipe)
        height, width = self.shape_of(recipe)
        x0, y0, x1, y1 = box or (0, 0, width, height)
        step = max(x1 - x0, y1 - y0) / max(shape)

        def work(band: tuple[int, int]) -> tuple[int, F32, np.ndarray]:
            top, end = band
            view = View(x0, y0 + top * step, step, shape[1], end - top, placement)
            code = blender.render(self._planes(blender, view, seen_afresh))
            return end, code, quantise(space.from_srgb(code), dtype)

        bands = row_bands(shape[0], BAND_ROWS)
        for end, code, pixels in ordered_parallel(work, bands, threads):
            progress.step(end / shape[0], text)
            if clipped is not None:
                clipped.add(code)
            yield pixels

    def prepare(self, recipe: Recipe) -> None:
        """Make the companions that a recipe needs, where they are not there yet."""
        for key in inputs_of(recipe):
            if key.kind not in (*READ, *SEEN):
                self.companion(recipe, key)

    def companion(self, recipe: Recipe, key: Key) -> Pyramid:
        """The pyramid of a companion plane, from half size on."""
        names, make = companion_of(recipe, key)
        sources = [self._source(recipe, n) for n in names]
        return self._kept(
            self._made_of(recipe, key), lambda: make([_read(s, key) for s in sources], self.shape)
        )

    def _made_of(self, recipe: Recipe, key: Key) -> Made:
        names, _ = companion_of(recipe, key)
        what = (key, *(self._source(recipe, n).key for n in names), *_noises(recipe, names))
        if key.kind == "lift":
            return (*what, recipe.figures.lifts[key.name].k)
        if key.kind == "area":
            mask = recipe.settings.active_masks()[int(key.name)]
            return (*what, mask.area, mask.feather)
        return what

    def _source(self, recipe: Recipe, name: str) -> PlaneSource:
        return (self.starless if recipe.channels[name].starless else self.sources)[name]

    def _planes(self, blender: Blender, view: View, seen: Look) -> dict[Key, F32]:
        found = {}
        for key in blender.inputs:
            if key.kind == "channel":
                found[key] = seen(self._source(blender.recipe, key.name), view)
            elif key.kind in ("fine", "coarse"):
                found[key] = seen(self.removable[key.name][key.kind == "coarse"], view)
            elif key.kind in SEEN:
                continue
            elif key.kind == "star":
                found[key] = seen(self._star_source(blender.recipe, key), view)
            else:
                found[key] = seen(self._companion_source(blender.recipe, key), view)
        of_picture = [k for k in blender.inputs if k.kind in SEEN]
        if of_picture:
            found |= self._picture_seen(blender.recipe, of_picture, view, seen)
        return found

    def _companion_source(self, recipe: Recipe, key: Key) -> CompanionView:
        return CompanionView(self._made_of(recipe, key), lambda: self.companion(recipe, key))

    def _picture_seen(
        self, recipe: Recipe, keys: Sequence[Key], view: View, seen: Look
    ) -> dict[Key, F32]:
        """The picture itself, smoothed, as masks and open cores see it. Kept with the views: what
        masks, tone and stars do to the picture does not change it.
        """
        base = base_of(recipe)

        def make() -> dict[Key, F32]:
            return smoothed(keys, view, lambda grid: self._lab(base, grid, seen))

        if seen != self._sight.kept:
            return make()
        return self._sight.smoothed(base, tuple(keys), view, make)

    def _lab(self, base: Recipe, view: View, seen: Look) -> F32:
        blender = Blender(base)
        return blender.oklab(self._planes(blender, view, seen))

    def _star_source(self, recipe: Recipe, key: Key) -> PlaneSource:
        found = recipe.star_set()
        if found is None or found.source not in self.stars:
            raise UnsupportedData(
                "The stars of this picture are not there",
                why="they were not split off",
                do="Split the stars of its channels, or leave them in",
            )
        return self.stars[found.source][STARS.index(key)]

    def _kept(self, key: Made, make: Callable[[], F32]) -> Pyramid:
        with self._lock:  # two threads that ask at once wait for one making
            found = self._companions.get(key)
            if found is None:
                found = self._companions[key] = _pyramid(make())
                while len(self._companions) > _KEPT:
                    self._companions.popitem(last=False)
            self._companions.move_to_end(key)
            return found


def _read(source: PlaneSource, key: Key) -> F32 | Stars:
    return source.stars() if key == DISCS else source.half_res()


def _noises(recipe: Recipe, names: Sequence[str]) -> list[float]:
    return [recipe.channels[n].sigma_large for n in names]


def _pyramid(plane: F32) -> Pyramid:
    levels = [plane]
    while max(levels[-1].shape) > _SMALLEST_PX:
        levels.append(half_size(levels[-1]))
    return tuple(levels)

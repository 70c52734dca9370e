"""Pictures of prepared channels for the screen: the blend, a channel alone, five crops; and the
value under the pointer.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.blend.companions import half_size
from ...core.blend.render import Renderer
from ...core.blend.stretch import Curve
from ...core.model.mask import Mask
from ...core.model.measures import Stars
from ...core.model.planes import F32
from ...core.model.recipe import Recipe
from ...core.model.settings import Stretch
from ...core.numerics.sampling import View, sample
from ..channels.build import Channels
from ..channels.notes import GradientNote
from ..channels.prepared import Prepared
from ..layers.cleaning import COARSE
from ..layers.layers import NONE, Layers
from .crops import GAP_PX, CropStars, crops_on, stars_in

RGB8 = NDArray[np.uint8]
_MARK: Final = (0.93, 0.36, 0.86)
_DIMMED: Final = 0.22
"""Brightness of what a mask does not take, while it is shown."""
_NOT_SKY: Final = 0.35
"""Brightness of what does not count as sky."""
_GRADIENT_NODES: Final = 65
"""A gradient is smooth: it is computed on so many nodes each way, and drawn between them."""
_TWO_THREADS_FROM: Final = 64
_LEVEL_UNKNOWN: Final = 0.1
"""A channel without signal is shown with ten sigma of its noise at the full level."""
_THREADS = ThreadPoolExecutor(2, thread_name_prefix="render")


@dataclass(frozen=True)
class PreparedSource:
    """A prepared channel as the render driver reads it."""

    prepared: Prepared

    @property
    def key(self) -> str:
        """Its name in the cache: the hash of all that it was made of."""
        return self.prepared.key

    def seen(self, view: View) -> F32:
        """The plane through a view."""
        return sample(self.prepared.levels, view)

    def half_res(self) -> F32:
        """The plane at half size."""
        levels = self.prepared.levels
        return np.asarray(levels[1]) if len(levels) > 1 else half_size(np.asarray(levels[0]))

    def stars(self) -> Stars:
        """Its stars, as they were measured."""
        return self.prepared.measure.stars


@dataclass(frozen=True)
class CoarseSource(PreparedSource):
    """The part of a channel's noise that is kept at half size."""

    @property
    def key(self) -> str:
        """A name of its own beside that of the fine part."""
        return f"{self.prepared.key} coarse"

    def seen(self, view: View) -> F32:
        """The plane through a view."""
        return sample(self.prepared.half_res_planes[COARSE], view, 1, cv2.BORDER_REPLICATE)


class ChannelRenderer:
    """Renders views of one set of prepared channels; nothing in it changes but what it keeps."""

    def __init__(self, channels: Channels, layers: Layers = NONE) -> None:
        """Raises ValueError where there is no channel."""
        grid = channels.grid
        if grid is None:
            raise ValueError("there is no channel to render")
        self.channels = channels
        self.shape = grid
        self.blender = Renderer(
            {n: PreparedSource(p) for n, p in channels.in_use.items()},
            grid,
            {n: PreparedSource(p) for n, p in layers.starless.items()},
            {s: [PreparedSource(p) for p in found.planes] for s, found in layers.sets.items()},
            {n: (PreparedSource(p), CoarseSource(p)) for n, p in layers.removable.items()},
        )

    def shape_of(self, recipe: Recipe | None) -> tuple[int, int]:
        """Height and width of the finished picture."""
        return self.shape if recipe is None else self.blender.shape_of(recipe)

    def blend(
        self, recipe: Recipe, view: View, mask: Mask | None = None, lines: bool = False
    ) -> RGB8:
        """The picture through a view, (height, width, 3) bytes, rendered in two threads; with a
        ``mask``, what it does not take is dimmed; with ``lines``, what lines on top leave.
        """
        self.blender.prepare(recipe)

        def work(part: View) -> RGB8:
            code = self.blender.code(recipe, part)
            if mask is not None:
                code = _dimmed(code, self.blender.weight(recipe, mask, part))
            if lines:
                code = _dimmed(code, self.blender.lifted(recipe, part))
            return to_bytes(code)

        if view.height < _TWO_THREADS_FROM:
            return work(view)
        half = view.height // 2
        parts = (
            replace(view, height=half),
            replace(view, y0=view.y0 + half * view.step, height=view.height - half),
        )
        return np.concatenate(list(_THREADS.map(work, parts)))

    def placed(self, recipe: Recipe | None, view: View) -> View:
        """A view of the finished picture, for a plane that lies on the grid."""
        if recipe is None:
            return view
        return replace(view, placement=self.blender.placement(recipe))

    def alone(self, recipe: Recipe | None, name: str, view: View, view_mode: str = "") -> RGB8:
        """One channel, or one origin, in grey under the recipe's stretch; or a view mode of it."""
        prepared = self.find(name)
        coloured = self.channels.star_colours
        if view_mode == "colours" and coloured:
            shown = [
                grey(coloured[c], recipe, sample(coloured[c].levels, view)) for c in ("R", "G", "B")
            ]
            return to_bytes(np.stack(shown))
        plane = plane_shown(self.channels, prepared, view, view_mode)
        if view_mode == "removed":
            plane = self._removed(recipe, prepared.channel, view)
        code = grey(prepared, recipe, plane)
        planes = np.repeat(code[None], 3, 0)
        if view_mode == "sky":
            planes *= _sky_shade(prepared.notes.gradient, view)
        elif view_mode == "rejected" and "rejected" in prepared.maps:
            part = np.minimum(3 * sample(prepared.maps["rejected"], view) / 255, 1)
            mark = np.array(_MARK, np.float32)[:, None, None]
            planes = planes * (1 - part) + part * mark
        return to_bytes(planes)

    def _removed(self, recipe: Recipe | None, name: str, view: View) -> F32:
        """What is taken off a channel by its amounts; nothing where nothing is."""
        amount = recipe.cleaned.get(name) if recipe is not None else None
        parts = self.blender.removable.get(name)
        if amount is None or parts is None:
            return np.zeros((view.height, view.width), np.float32)
        fine, coarse = (p.seen(view) for p in parts)
        return np.float32(amount.fine) * fine + np.float32(amount.coarse) * coarse

    def crops(
        self, recipe: Recipe | None, name: str, width: int, height: int, view_mode: str = ""
    ) -> RGB8:
        """Crops along the diagonals at one to one, (height, width, 3) bytes."""
        shape = self.find(name).shape
        out = np.zeros((height, width, 3), np.uint8)
        *corners, middle = crops_on(width, height)
        for crop in (*corners, middle):
            y, x = crop.y, crop.x
            if crop is middle:
                out[y - GAP_PX : y + crop.height + GAP_PX, x - GAP_PX : x + crop.width + GAP_PX] = 0
            made = self.alone(recipe, name, crop.view(shape), view_mode)
            out[y : y + crop.height, x : x + crop.width] = made
        return out

    def crop_stars(self, name: str, width: int, height: int) -> tuple[CropStars | None, ...]:
        """What the stars are like in each of the crops, in their order."""
        prepared = self.find(name)
        stars = prepared.measure.stars
        return tuple(stars_in(prepared.levels[0], stars, c) for c in crops_on(width, height))

    def knows(self, name: str) -> bool:
        """Whether a channel or an origin of that name is there."""
        return self.channels.chosen.get(name, name) in self.channels.origins

    def find(self, name: str) -> Prepared:
        """By channel name or origin key. Raises KeyError."""
        return self.channels.origins[self.channels.chosen.get(name, name)]

    def probe(self, x: int, y: int) -> dict[str, tuple[float, float]]:
        """Value, and SNR of the 5 x 5 mean, of each channel at a picture pixel; empty outside."""
        height, width = self.shape
        if not (0 <= y < height and 0 <= x < width):
            return {}
        return {n: self.probe_one(p, x, y) for n, p in self.channels.in_use.items()}

    def probe_one(self, prepared: Prepared, x: int, y: int) -> tuple[float, float]:
        """Value, and SNR of the 5 x 5 mean, of one prepared channel at a pixel inside it."""
        plane = prepared.levels[0]
        patch = plane[max(y - 2, 0) : y + 3, max(x - 2, 0) : x + 3]
        noise = prepared.measure.noise
        sigma = max(noise.sigma_px, noise.sigma_eff or 0) / np.sqrt(patch.size)
        return float(plane[y, x]), float(patch.mean()) / sigma if sigma else 0.0


def plane_shown(channels: Channels, prepared: Prepared, view: View, view_mode: str) -> F32:
    """The plane of a view mode through a view; the channel itself where it has no such mode."""
    plane = sample(prepared.levels, view)
    gradient = prepared.notes.gradient
    if view_mode in ("raw", "heights") and gradient is not None:
        return plane + gradient_shown(gradient, view)
    if view_mode == "plain" and "plain" in prepared.half_res_planes:
        return sample(prepared.half_res_planes["plain"], view, 1)
    pool = prepared.notes.pool
    if view_mode == "difference" and pool is not None:
        one, two = (
            sample(channels.origins[p.origin].levels, view) / np.float32(p.flux)
            for p in pool.parts[:2]
        )
        return one - two
    starless = channels.starless.get(prepared.channel)
    if view_mode in ("starless", "stars") and starless is not None:
        starless_plane = sample(starless.levels, view)
        return starless_plane if view_mode == "starless" else plane - starless_plane
    return plane


def gradient_shown(note: GradientNote, view: View) -> F32:
    """What was taken off a channel's sky, about its middle, through a view."""
    x = view.x0 + (np.linspace(0, view.width, _GRADIENT_NODES)) * view.step
    y = view.y0 + (np.linspace(0, view.height, _GRADIENT_NODES)) * view.step
    gx, gy = np.meshgrid(x, y)
    values = note.model.at(gx.ravel(), gy.ravel()) - note.level
    coarse = values.reshape(gx.shape).astype(np.float32)
    size = (view.width, view.height)
    return np.asarray(cv2.resize(coarse, size, interpolation=cv2.INTER_CUBIC), np.float32)


def _sky_shade(note: GradientNote | None, view: View) -> F32:
    """1 where sky was seen, less where it was not, with soft edges."""
    if note is None:
        return np.ones((view.height, view.width), np.float32)
    size, (tall, wide) = note.tile_px, note.model.shape
    tiles = np.full((tall // size + 1, wide // size + 1), _NOT_SKY, np.float32)
    for x, y, used in note.tiles:
        if used:
            tiles[y // size, x // size] = 1.0
    rows = (view.step * np.arange(view.height) + view.y0) / size - 0.5
    columns = (view.step * np.arange(view.width) + view.x0) / size - 0.5
    at_x, at_y = np.meshgrid(columns.astype(np.float32), rows.astype(np.float32))
    edge = cv2.BORDER_REPLICATE
    return np.asarray(cv2.remap(tiles, at_x, at_y, cv2.INTER_LINEAR, borderMode=edge), np.float32)


def grey(prepared: Prepared, recipe: Recipe | None, plane: F32) -> F32:
    """Grey code of a plane at its own full level, under the recipe's stretch."""
    figures = prepared.figures()
    gain = 1 / figures.signal if figures.signal > 0 else _LEVEL_UNKNOWN / figures.sigma_px
    white = max((figures.white or 0) * gain, 1.0)
    curve = Curve(recipe.settings.stretch if recipe else Stretch(), white)
    return np.clip(curve(plane * np.float32(gain)), 0, 1)


def _dimmed(code: F32, weight: F32) -> F32:
    """Code (3, H, W) with what a weight does not take darkened."""
    return code * (np.float32(_DIMMED) + np.float32(1 - _DIMMED) * weight)


def to_bytes(code: F32) -> RGB8:
    """Code (3, H, W) to bytes, channels last."""
    planes = [cv2.convertScaleAbs(plane, alpha=255.0) for plane in code]
    return np.asarray(cv2.merge(planes), np.uint8)

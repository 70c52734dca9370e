"""What a view asks for and gets: a region at screen resolution, or the value under the pointer."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any, Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.blend import Blender
from ...core.blend.companions import glow_plane, half_size, star_plane
from ...core.blend.stretch import Curve
from ...core.model.planes import F32
from ...core.model.recipe import Recipe, Stretch
from ...core.numerics.poly import Poly
from ..channels.build import Channels
from ..channels.prepared import Prepared

RGB8 = NDArray[np.uint8]
LOOKS: Final = (
    "plain",
    "raw",
    "model",
    "sky",
    "difference",
    "starless",
    "stars",
    "colours",
    "rejected",
)
"""The colour plane that a line came from, the channel with its gradient, the gradient, what does
not count as sky darkened, how two pooled stacks differ, without stars, the stars alone and in
colour, and what was left out of a pool marked.
"""
_MARK: Final = (0.93, 0.36, 0.86)
_POOL = ThreadPoolExecutor(2, thread_name_prefix="render")
cv2.setNumThreads(1)  # rendering and jobs bring their own threads


@dataclass(frozen=True)
class View:
    """A region: picture coordinates of the first screen pixel's corner, picture pixels per screen
    pixel.
    """

    x0: float
    y0: float
    step: float
    width: int
    height: int


@dataclass(frozen=True)
class Request:
    """``alone`` names a channel (or an origin id) to be shown by itself; ``before`` asks for the
    blend as it was before the last change; ``nine`` for crops of corners, edges and middle at one
    to one, in a sheet of the view's size; ``look`` is what is shown of a channel alone: nothing for
    itself, or one of LOOKS.
    """

    id: int
    view: View
    alone: str | None = None
    before: bool = False
    nine: bool = False
    look: str = ""


def looked_at(channels: Channels, prepared: Prepared, view: View, look: str) -> F32:
    """The plane of a look through a view; the channel itself where it has no such look."""
    plane = sample(prepared.levels, view)
    if look in ("raw", "model") and "gradient" in prepared.notes:
        model = gradient_seen(prepared, view)
        return model if look == "model" else plane + model
    if look == "plain" and "plain" in prepared.halves:
        return sample(prepared.halves["plain"], view, 1)
    if look == "difference" and "parts" in prepared.notes:
        one, two = ((channels.origins[p["origin"]], p["flux"]) for p in prepared.notes["parts"][:2])
        return sample(one[0].levels, view) / np.float32(one[1]) - sample(
            two[0].levels, view
        ) / np.float32(two[1])
    starless = channels.starless.get(prepared.channel)
    if look in ("starless", "stars") and starless is not None:
        calm = sample(starless.levels, view)
        return calm if look == "starless" else plane - calm
    return plane


def gradient_seen(prepared: Prepared, view: View) -> F32:
    """What was taken off a channel's sky, about its middle, through a view."""
    note = prepared.notes["gradient"]
    model = Poly(note["degree"], tuple(note["terms"]), (note["shape"][0], note["shape"][1]))
    x = view.x0 + (np.linspace(0, view.width, 65)) * view.step
    y = view.y0 + (np.linspace(0, view.height, 65)) * view.step
    gx, gy = np.meshgrid(x, y)
    coarse = (model.at(gx.ravel(), gy.ravel()) - note["level"]).reshape(gx.shape).astype(np.float32)
    return np.asarray(
        cv2.resize(coarse, (view.width, view.height), interpolation=cv2.INTER_CUBIC), np.float32
    )


def _counted(prepared: Prepared, view: View) -> F32:
    """1 where a tile counts as sky, less where it does not."""
    note = prepared.notes.get("gradient")
    if note is None:
        return np.ones((view.height, view.width), np.float32)
    size = int(note["size"])
    tiles = np.full((note["shape"][0] // size + 1, note["shape"][1] // size + 1), 0.35, np.float32)
    for x, y, used in note["tiles"]:
        if used:
            tiles[y // size, x // size] = 1.0
    move = np.array([[view.step / size, 0, view.x0 / size], [0, view.step / size, view.y0 / size]])
    rows = np.clip(
        np.floor(move[1, 1] * np.arange(view.height) + move[1, 2]).astype(int),
        0,
        tiles.shape[0] - 1,
    )
    columns = np.clip(
        np.floor(move[0, 0] * np.arange(view.width) + move[0, 2]).astype(int), 0, tiles.shape[1] - 1
    )
    return tiles[rows[:, None], columns[None, :]]


def sample(levels: Sequence[NDArray[Any]], view: View, first_level: int = 0) -> F32:
    """A plane seen through ``view``: (height, width), from the level next finer than the screen.

    ``first_level`` is the level of ``levels[0]``: 1 for companions kept at half size. Outside is 0.
    """
    wanted = int(np.floor(np.log2(max(view.step, 1e-6)) + 1e-9))
    index = min(max(wanted - first_level, 0), len(levels) - 1)
    plane, factor = levels[index], 2.0 ** (index + first_level)
    step = view.step / factor
    x0, y0 = (view.x0 + 0.5 * view.step) / factor - 0.5, (view.y0 + 0.5 * view.step) / factor - 0.5
    left, top = int(np.floor(x0)) - 1, int(np.floor(y0)) - 1
    right, bottom = (
        int(np.ceil(x0 + step * view.width)) + 2,
        int(np.ceil(y0 + step * view.height)) + 2,
    )
    cut_l, cut_t = max(left, 0), max(top, 0)
    part = np.ascontiguousarray(plane[cut_t : max(bottom, 0), cut_l : max(right, 0)], np.float32)
    if part.size == 0:
        return np.zeros((view.height, view.width), np.float32)
    if step < 0.999:
        how = cv2.INTER_NEAREST if step <= 0.5 and first_level == 0 else cv2.INTER_LINEAR
    else:
        how = cv2.INTER_LINEAR
    move = np.array([[step, 0, x0 - cut_l], [0, step, y0 - cut_t]], np.float64)
    return np.asarray(
        cv2.warpAffine(
            part,
            move,
            (view.width, view.height),
            flags=how | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_CONSTANT,
            borderValue=0,
        ),
        np.float32,
    )


class Painter:
    """Renders views of one set of prepared channels; companions are made on first need and kept."""

    def __init__(self, channels: Channels) -> None:
        self.channels = channels
        self._companions: dict[tuple[str, ...], tuple[tuple[F32, ...], tuple[F32, ...]]] = {}

    @property
    def shape(self) -> tuple[int, int]:
        grid = self.channels.grid
        assert grid is not None
        return grid

    def code(self, recipe: Recipe, view: View) -> F32:
        """The picture through a view as sRGB code (3, height, width). Preview and export both come
        from here.
        """
        blender = Blender(recipe)
        planes = [sample(self.channels.channel(n).levels, view) for n in blender.names]
        glow, stars = self.companions(recipe, blender.names)
        colour = recipe.settings.colour
        return blender.render(
            planes,
            sample(glow, view, 1) if colour.saturation != 1.0 else None,
            sample(stars, view, 1) if colour.star_colour != 1.0 else None,
        )

    def blend(self, recipe: Recipe, view: View) -> RGB8:
        """The picture through a view, (height, width, 3) bytes, rendered in two threads."""
        if view.height < 64:
            return to_bytes(self.code(recipe, view))
        self.companions(recipe, recipe.settings.used())
        half = view.height // 2
        parts = (
            replace(view, height=half),
            replace(view, y0=view.y0 + half * view.step, height=view.height - half),
        )
        return np.concatenate(list(_POOL.map(lambda v: to_bytes(self.code(recipe, v)), parts)))

    def alone(self, recipe: Recipe | None, name: str, view: View, look: str = "") -> RGB8:
        """One channel, or one origin, in grey under the recipe's stretch; or one of LOOKS of it."""
        prepared = self.find(name)
        coloured = self.channels.coloured
        if look == "colours" and coloured:
            shown = [
                grey(coloured[c], recipe, sample(coloured[c].levels, view)) for c in ("R", "G", "B")
            ]
            return to_bytes(np.stack(shown))
        code = grey(prepared, recipe, looked_at(self.channels, prepared, view, look))
        planes = np.repeat(code[None], 3, 0)
        if look == "sky":
            planes *= _counted(prepared, view)
        elif look == "rejected" and "rejected" in prepared.maps:
            part = np.minimum(3 * sample(prepared.maps["rejected"], view) / 255, 1)
            planes = planes * (1 - part) + part * np.array(_MARK, np.float32)[:, None, None]
        return to_bytes(planes)

    def nine(
        self,
        recipe: Recipe | None,
        name: str,
        width: int,
        height: int,
        look: str = "",
        gap: int = 6,
    ) -> RGB8:
        """Nine crops at one to one, (height, width, 3) bytes: corners, edges and middle where they
        lie.
        """
        prepared = self.find(name)
        tall, wide = prepared.shape
        cell = View(0, 0, 1.0, max((width - 2 * gap) // 3, 1), max((height - 2 * gap) // 3, 1))
        out = np.zeros((height, width, 3), np.uint8)
        for row in range(3):
            for column in range(3):
                at = replace(
                    cell, x0=(wide - cell.width) * column / 2, y0=(tall - cell.height) * row / 2
                )
                y, x = row * (cell.height + gap), column * (cell.width + gap)
                out[y : y + cell.height, x : x + cell.width] = self.alone(recipe, name, at, look)
        return out

    def find(self, name: str) -> Prepared:
        """By channel name or origin id."""
        return self.channels.origins[self.channels.chosen.get(name, name)]

    def companions(
        self, recipe: Recipe, names: tuple[str, ...]
    ) -> tuple[tuple[F32, ...], tuple[F32, ...]]:
        """Pyramids of the glow and star planes at half size."""
        key = tuple(self.channels.chosen[n] for n in names)
        if key not in self._companions:
            used = [self.channels.channel(n) for n in names]
            halves = [np.asarray(p.levels[min(1, len(p.levels) - 1)]) for p in used]
            glow = glow_plane(
                (h, recipe.channels[p.channel]) for h, p in zip(halves, used, strict=True)
            )
            stars = star_plane(self.shape, [p.measure.stars for p in used])
            self._companions[key] = (_pyramid(glow), _pyramid(stars))
        return self._companions[key]

    def probe(self, x: int, y: int) -> dict[str, tuple[float, float]]:
        """Value, and SNR of the 5 x 5 mean, of each channel at a picture pixel; empty outside."""
        height, width = self.shape
        if not (0 <= y < height and 0 <= x < width):
            return {}
        return {n: self.probe_one(self.channels.channel(n), x, y) for n in self.channels.names}

    def probe_one(self, prepared: Prepared, x: int, y: int) -> tuple[float, float]:
        """Value, and SNR of the 5 x 5 mean, of one prepared channel at a pixel inside it."""
        plane = prepared.levels[0]
        patch = plane[max(y - 2, 0) : y + 3, max(x - 2, 0) : x + 3]
        noise = prepared.measure.noise
        sigma = max(noise.sigma_px, noise.sigma_eff or 0) / np.sqrt(patch.size)
        return float(plane[y, x]), float(patch.mean()) / sigma if sigma else 0.0


def grey(prepared: Prepared, recipe: Recipe | None, plane: F32) -> F32:
    """Grey code of a plane at its own full level, under the recipe's stretch."""
    figures = prepared.figures()
    gain = 1 / figures.signal if figures.signal > 0 else 0.1 / figures.sigma_px
    curve = Curve(
        recipe.settings.stretch if recipe else Stretch(), max((figures.white or 0) * gain, 1.0)
    )
    return np.clip(curve(plane * np.float32(gain)), 0, 1)


def to_bytes(code: F32) -> RGB8:
    """Code (3, H, W) to bytes, channels last."""
    return np.asarray(
        cv2.merge([cv2.convertScaleAbs(plane, alpha=255.0) for plane in code]), np.uint8
    )


def _pyramid(plane: F32) -> tuple[F32, ...]:
    levels = [plane]
    while max(levels[-1].shape) > 200:
        levels.append(half_size(levels[-1]))
    return tuple(levels)

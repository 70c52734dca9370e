"""Noise and lines of colour stacks that were made in every usual way, none of them told."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Final

import numpy as np

from ..extract.lines import ColourStack, unmix_stack
from ..extract.null import plane_noise
from ..extract.response import Response, load_response
from ..extract.unmix import unmixing
from ..measure.noise import quiet_blocks, sigma_in
from ..measure.run import bright_mask
from ..measure.stars import find_stars
from ..model.planes import F32, Mask, Picture
from ..model.progress import Progress
from ..model.rig import FILTERS, RIGS
from ..numerics.starlet import WHITE, band, details
from ..simulate.camera import Sky, band_rates, light_on_plane
from ..simulate.processing import WAYS, Way, colour_stack_by, seen_by
from ..simulate.scene import Scene, SceneRecipe, make_scene
from .finding import Finding

_SHAPE: Final = (512, 640)
_LINES: Final = ("Ha", "O3")
_DARK: Final = 0.25  # of the blocks, the darkest
_MAIN: Final = 0.5  # an answer that is no leak
_LEAKS: Final = 0.8
"""What this test's camera leaks, over the table's."""
_ROUNDS: Final = 6
_FAR_OFF: Final = 4.5  # medians of what is left: three sigma
_LEFT: Final = (0.3, 1.0)  # percent; the second where a debayering borrows from other colours


def colour_findings(seed: int, progress: Progress) -> Iterator[Finding]:
    """One way after the other."""
    table = load_response()
    camera = _another(table)
    for number, way in enumerate(WAYS):
        progress.step(number / len(WAYS), f"colour stacks: {way.name}")
        size = 2 if way.debayer == "squares" else 1
        scene = _scene(seed, size)
        light = _light(scene, camera)
        one, two = (_stack(way, light, seed + n) for n in (1, 2))
        yield from _judged(way, scene, (table, camera), one, two)


def _scene(seed: int, size: int) -> Scene:
    shape = (_SHAPE[0] * size, _SHAPE[1] * size)
    recipe = SceneRecipe(half_size_arcmin=(9.0 * size, 7.0 * size), star_count=260 * size)
    return make_scene(shape, 2.0, seed, recipe)


def _another(table: Response) -> Response:
    """A camera that is not quite the table's."""
    rows = {
        plane: {line: value * (1 if value > _MAIN else _LEAKS) for line, value in row.items()}
        for plane, row in table.table.items()
    }
    return replace(table, table=rows)


def _light(scene: Scene, camera: Response) -> F32:
    sky = Sky(20.8)
    rates = band_rates(scene, RIGS["Balcony"], FILTERS["Ha+O3"], sky)
    return np.stack([light_on_plane(rates, sky, camera.table[p]) for p in "RGB"])


def _stack(way: Way, light: F32, seed: int) -> F32:
    return colour_stack_by(way, light, RIGS["Balcony"], 48, 300.0, np.random.default_rng(seed))


def _judged(
    way: Way, scene: Scene, responses: tuple[Response, Response], one: F32, two: F32
) -> Iterator[Finding]:
    """Noise by the table, which is off; leaks by the camera's own response."""
    table, camera = responses
    avoid = bright_mask(one[1], find_stars(one[1]), None)
    blocks, _ = quiet_blocks(np.mean(one, 0, dtype=np.float32), ~avoid, _DARK)
    apart = [details((a - b).astype(np.float32), 4)[3] for a, b in zip(one, two, strict=True)]
    true = np.array([sigma_in(d, blocks, ~avoid) for d in apart]) / (WHITE[3] * np.sqrt(2))
    matrix = table.matrix(_LINES)
    told = plane_noise(one, matrix, avoid).sigma
    off = float(np.abs(told / true - 1).max())
    yield Finding("noise of the planes, furthest off", way.name, 100 * off, 12, "%")
    noise = [
        sigma_in(np.tensordot(unmixing(matrix, s).weights[1], np.stack(apart), 1), blocks, ~avoid)
        for s in (told, true)
    ]
    yield Finding("SNR of O3, of the best possible", way.name, noise[1] / noise[0], 0.97, "", True)
    both = ((one + two) / 2).astype(np.float32)
    line = unmix_stack(ColourStack(Picture(both), _LINES), camera)
    leak, most = _leak(line.lines["O3"], scene, way, avoid), _LEFT[way.debayer == "gradients"]
    yield Finding("Ha left in O3, by the camera's response", way.name, 100 * leak, most, "%")


def _leak(line: F32, scene: Scene, way: Way, avoid: Mask) -> float:
    """Ha in an O3 map, from both lines' truth on coarse scales; what stars have left there is no
    part of it.
    """
    maps = [band(seen_by(way, scene.lines[n]), 4, 6)[~avoid].astype(float) for n in _LINES]
    design = np.stack([*maps, np.ones_like(maps[0])], 1)
    seen, kept = band(line, 4, 6)[~avoid].astype(float), np.ones(len(design), np.bool_)
    found = np.zeros(3)
    for _ in range(_ROUNDS):
        found = np.linalg.lstsq(design[kept], seen[kept], rcond=None)[0]
        off = np.abs(seen - design @ found)
        kept = off < _FAR_OFF * float(np.median(off))
    return abs(float(found[0] / found[1]))

"""Stars split off a field whose truth is known, and a pool that a trail crosses."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Final

import cv2
import numpy as np

from ..clean.split import split_stars
from ..measure.stars import find_stars
from ..model.planes import F32, Picture
from ..model.progress import Progress
from ..model.rig import FILTERS, RIGS
from ..numerics.robust import step_sigma
from ..pool.stacks import pool
from ..simulate.camera import Sky, mono_stack
from ..simulate.processing import turned
from ..simulate.scene import Scene, SceneRecipe, StarTable, make_scene
from .finding import Finding

_SHAPE: Final = (448, 576)
_LONG: Final = 200_000  # subs of a stack that has no noise
_EDGE: Final = 14
_WINGS: Final = 16  # px beside a trail
_TRAIL: Final = 300.0  # noise of a pixel


def star_findings(seed: int, progress: Progress) -> Iterator[Finding]:
    """As it came from stacking, and turned once more."""
    recipe = SceneRecipe(half_size_arcmin=(9.0, 7.0), star_count=700)
    scene = make_scene(_SHAPE, 1.8, seed, recipe)
    stack = _shot(scene, 60, seed)
    truth, ground = _shot(scene, _LONG, seed), _shot(_starless(scene), _LONG, seed)
    for number, again in enumerate((False, True)):
        name = "turned once more" if again else "as stacked"
        progress.step(0.45 * number, f"splitting stars off: {name}")
        one, true, bare = (turned(p) if again else p for p in (stack, truth, ground))
        yield from _split(name, one, true, bare, 1.7 if again else 1.5)
    progress.step(0.9, "counting stars")
    yield _counted(stack, truth - ground)


def pool_findings(seed: int, progress: Progress) -> Iterator[Finding]:
    """Three stacks of unlike worth; one has a trail."""
    progress.step(0.0, "pooling")
    scene = make_scene(_SHAPE, 1.8, seed + 1, SceneRecipe(half_size_arcmin=(9.0, 7.0)))
    clear = (1.0, 0.8, 0.65)
    planes = [_shot(scene, 40, seed + n, c) for n, c in enumerate(clear)]
    noise = step_sigma(planes[0])
    yy, xx = np.mgrid[0 : _SHAPE[0], 0 : _SHAPE[1]]
    away = (xx - 80) * np.sin(0.5) - (yy - 60) * np.cos(0.5)
    trail = (_TRAIL * noise * (1 + (away / 1.8) ** 2) ** -2.4).astype(np.float32)
    clean = pool([Picture(p) for p in planes])
    progress.step(0.5, "pooling with a trail")
    spoiled = pool([Picture(p) for p in (planes[0], planes[1] + trail, planes[2])])
    change = spoiled.data - clean.data
    along = np.abs(away) < _WINGS
    brought = clean.parts[1].weight / clean.parts[1].flux.scale * float(trail[along].sum())
    left = abs(float((change[along] - np.median(change[~along])).sum())) / brought
    yield Finding("light of a trail that stays in a pool", "three stacks", 100 * left, 8, "%")
    first = clean.reference
    off = max(
        abs(p.flux.scale * clear[first] / c - 1) for p, c in zip(clean.parts, clear, strict=True)
    )
    yield Finding("flux scale of a stack, furthest off", "three stacks", 100 * off, 1.5, "%")


def _shot(scene: Scene, subs: int, seed: int, clear: float = 1.0) -> F32:
    sky = Sky(21.3, transparency=clear)
    rng = np.random.default_rng(seed)
    return mono_stack(scene, RIGS["Ridge"], FILTERS["O3"], sky, subs, 300.0, rng)


def _starless(scene: Scene) -> Scene:
    none = np.zeros(0, np.float32)
    return replace(scene, stars=StarTable(none, none, none, none, none))


def _split(name: str, stack: F32, truth: F32, ground: F32, most: float) -> Iterator[Finding]:
    made = split_stars(Picture(stack))
    light = truth - ground
    inner = np.zeros(stack.shape, np.bool_)
    inner[_EDGE:-_EDGE, _EDGE:-_EDGE] = True
    rough = stack - truth
    sky = float(np.std(rough[inner & (light <= np.quantile(light, 0.4))]))
    under = inner & (light > sky)
    off = (made.starless - ground)[under]
    yield Finding("what is left where stars were", name, float(off.std()) / sky, most, "sigma")
    peaks = (light >= cv2.dilate(light, np.ones((5, 5), np.uint8))) & under
    loud, taken = light[peaks] / sky, made.stars[peaks] / light[peaks]
    for low, high, least in ((8.0, 15.0, 0.88), (15.0, 30.0, 0.96)):
        those = (loud > low) & (loud < high)
        share = float(np.mean(taken[those] > 0.35)) if those.any() else float("nan")
        yield Finding(f"stars found at {low:.0f} to {high:.0f} sigma", name, share, least, "", True)
    none = inner & (light < 0.3 * sky)
    nebula = float((ground - np.quantile(ground, 0.02))[none].sum())
    eaten = abs(float(made.stars[none].sum())) / nebula
    yield Finding("nebula that goes along with the stars", name, 100 * eaten, 0.3, "%")


def _counted(stack: F32, light: F32) -> Finding:
    """Stars that measuring finds, against those that stand out as far."""
    found = find_stars(stack)
    sky = step_sigma(stack)
    peaks = light >= cv2.dilate(light, np.ones((5, 5), np.uint8))
    out = int((peaks & (light > 8 * sky)).sum())
    near = sum(
        float(light[round(y) - 1 : round(y) + 2, round(x) - 1 : round(x) + 2].max(initial=0))
        > 8 * sky
        for x, y in zip(found.x, found.y, strict=True)
    )
    return Finding("stars counted, off", "as stacked", 100 * abs(near / max(out, 1) - 1), 8, "%")

"""Aligning and pooling at 26 megapixels."""

from __future__ import annotations

import time

import numpy as np

from bichromus.core.align.stack import Placed, lay, match_lists, shared_box, star_list
from bichromus.core.model.planes import Header, Picture
from bichromus.core.pool.stacks import pool
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import StarTable

from .common import Result, plane

_SHAPE = (4176, 6248)


def _stack(seed: int, turn: float, shift: float) -> Picture:
    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, _SHAPE[1], 3000), rng.uniform(0, _SHAPE[0], 3000)
    flux = rng.pareto(1.3, 3000) * 40 + 8
    c, s = np.cos(turn), np.sin(turn)
    u, v = x - _SHAPE[1] / 2, y - _SHAPE[0] / 2
    nothing = np.zeros(3000, np.float32)
    table = StarTable((c * u - s * v + _SHAPE[1] / 2 + shift).astype(np.float32),
                      (s * u + c * v + _SHAPE[0] / 2).astype(np.float32), nothing, nothing, nothing)
    data = plane(_SHAPE, 0) + np.random.default_rng(seed).standard_normal(_SHAPE, dtype=np.float32) * np.float32(0.05)
    render_stars(data, table, flux, 3.0)
    return Picture(data, Header())


def run() -> list[Result]:
    one, two = _stack(1, 0.0, 0.0), _stack(2, 0.02, 40.0)
    begun = time.perf_counter()
    placed = [Placed(two, match_lists(star_list(one), star_list(two), two)), Placed(one, None)]
    box, _ = shared_box(placed, "common")
    lay(placed[0], box)
    aligned = time.perf_counter() - begun
    begun = time.perf_counter()
    pool([one, Picture(one.data + np.float32(0.01), Header())])
    pooled = (time.perf_counter() - begun) / (2 * one.data.size / 1e6) * 1000
    return [Result("a 26 Mpx pair aligned", aligned, 10, "s"),
            Result("pooled, a megapixel of a stack, measuring included", pooled, 500, "ms")]

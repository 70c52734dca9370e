"""Aligning, pooling and splitting at 26 megapixels, and the memory of a pool at 60."""

from __future__ import annotations

import tempfile
import threading
import time
from pathlib import Path
from typing import cast

import numpy as np

from bichromus.core.align.stack import (
    Registered,
    match_lists,
    resample_stack,
    shared_box,
    star_list,
)
from bichromus.core.clean.split import split_stars
from bichromus.core.model.measures import Noise, Stars
from bichromus.core.model.planes import F32, Header, Picture
from bichromus.core.pool.scale import BIN, KnownStars
from bichromus.core.pool.stacks import pool
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import StarTable
from bichromus.workspace.channels.holes import HoledPlane

from .common import Result, over, plane
from .yardstick import SHAPE, blur_s


def stack_of(seed: int, turn: float, shift: float) -> Picture:
    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, SHAPE[1], 3000), rng.uniform(0, SHAPE[0], 3000)
    flux = rng.pareto(1.3, 3000) * 40 + 8
    c, s = np.cos(turn), np.sin(turn)
    u, v = x - SHAPE[1] / 2, y - SHAPE[0] / 2
    nothing = np.zeros(3000, np.float32)
    table = StarTable(
        (c * u - s * v + SHAPE[1] / 2 + shift).astype(np.float32),
        (s * u + c * v + SHAPE[0] / 2).astype(np.float32),
        nothing,
        nothing,
        nothing,
    )
    data = plane(SHAPE, 0) + np.random.default_rng(seed).standard_normal(
        SHAPE, dtype=np.float32
    ) * np.float32(0.05)
    render_stars(data, table, flux, 3.0)
    return Picture(data, Header())


def _private_mb() -> float:
    """Memory of this process that no file backs."""
    with open("/proc/self/smaps_rollup") as handle:
        return sum(int(line.split()[1]) for line in handle if line.startswith("Anonymous:")) / 1024


def _pool_from_disk(folder: Path, count: int, shape: tuple[int, int]) -> tuple[float, float]:
    """Seconds a megapixel and stack, and peak private MB above the start, of a pool of stacks that
    lie on the disk.
    """
    rng = np.random.default_rng(3)
    base = plane(shape, 0)
    pictures, known = [], []
    for n in range(count):
        path = folder / f"{n}.npy"
        np.save(path, base + rng.standard_normal(shape, dtype=np.float32) * np.float32(0.05))
        pictures.append(Picture(cast(F32, HoledPlane(np.load(path, mmap_mode="r"))), Header()))
        bins = rng.normal(0, 0.05 / BIN, (shape[0] // BIN, shape[1] // BIN))
        bins[: len(bins) // 2] += np.linspace(0, 1, bins.shape[1])
        known.append(
            KnownStars(
                Noise(0.05, 0.05, "kappa", 99), Stars(0, None, None, None, 0), bins, 0.05 / BIN
            )
        )
    del base
    start, peak, done = _private_mb(), [0.0], threading.Event()

    def watch() -> None:
        while not done.wait(0.05):
            peak[0] = max(peak[0], _private_mb())

    watcher = threading.Thread(target=watch)
    watcher.start()
    begun = time.perf_counter()
    pool(pictures, known=known)
    spent = time.perf_counter() - begun
    done.set()
    watcher.join()
    return spent / (count * shape[0] * shape[1] / 1e6), peak[0] - start


def run() -> list[Result]:
    one, two = stack_of(1, 0.0, 0.0), stack_of(2, 0.02, 40.0)
    star_list(Picture(np.ascontiguousarray(one.data[:600, :800]), Header()))  # loads libraries
    begun = time.perf_counter()
    registered = [
        Registered(two, match_lists(star_list(one), star_list(two), two)),
        Registered(one, None),
    ]
    box, _ = shared_box(registered, "common")
    resample_stack(registered[0], box)
    aligned = time.perf_counter() - begun
    begun = time.perf_counter()
    pool([one, Picture(one.data + np.float32(0.01), Header())])
    pooled = (time.perf_counter() - begun) / (2 * one.data.size / 1e6)
    split = Picture(np.ascontiguousarray(one.data[:1500, :2000]), Header())
    begun = time.perf_counter()
    split_stars(split)
    stars = (time.perf_counter() - begun) / (split.data.size / 1e6)
    del one, two, registered, split
    megapixels = SHAPE[0] * SHAPE[1] / 1e6
    with tempfile.TemporaryDirectory() as folder:
        three, _ = _pool_from_disk(Path(folder), 3, SHAPE)
        _, memory = _pool_from_disk(Path(folder), 5, (6336, 9504))
    return [
        over("a 26 Mpx pair aligned", aligned, blur_s(), 62, 20),
        over(
            "two stacks pooled, a megapixel of one, measuring included, over a blur of it",
            pooled,
            blur_s() / megapixels,
            190,
            2,
        ),
        over(
            "pooled, a megapixel of each of three stacks that were measured before",
            three,
            blur_s() / megapixels,
            17,
            0.2,
        ),
        Result("five stacks of 60 Mpx pooled, private memory", memory, 2000, "MB"),
        over(
            "stars split off, a megapixel, over a blur of it", stars, blur_s() / megapixels, 650, 6
        ),
    ]

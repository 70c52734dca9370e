"""Frames laid on each other and put together: truth from stars at known places and planes of known
noise.
"""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from bichromus.core.align.rigid import Rigid, match_rigid
from bichromus.core.model.errors import NotEnoughData
from bichromus.core.pool.quick import FrameLayer, combine, quick_stack

SIZE = (900.0, 700.0)


def field(seed: int, count: int = 70) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    return rng.uniform(0, SIZE[0], count), rng.uniform(0, SIZE[1], count)


@pytest.mark.parametrize("seed", range(12))
def test_shift_turn_and_half_turn_are_found_among_junk(seed: int) -> None:
    rng = np.random.default_rng(100 + seed)
    x, y = field(seed)
    angle = np.deg2rad(rng.uniform(-2.8, 2.8)) + (np.pi if seed % 3 == 0 else 0.0)
    c, s = np.cos(angle), np.sin(angle)
    middle = np.array(SIZE) / 2
    shift = (
        middle
        + rng.uniform(-120, 120, 2)
        - np.array([c * middle[0] - s * middle[1], s * middle[0] + c * middle[1]])
    )
    truth = Rigid(float(angle), float(shift[0]), float(shift[1]))
    u, v = truth.source(x, y)
    seen = rng.random(len(x)) < 0.75  # a quarter of the stars is lost, as many false ones come in
    lost = int((~seen).sum())
    u = np.concatenate([u[seen] + rng.normal(0, 0.1, seen.sum()), rng.uniform(0, SIZE[0], lost)])
    v = np.concatenate([v[seen] + rng.normal(0, 0.1, seen.sum()), rng.uniform(0, SIZE[1], lost)])
    order = rng.permutation(len(u))
    found = match_rigid((x, y), (u[order], v[order]))
    assert found is not None
    assert found.flipped == truth.flipped
    corner = np.array([0.0, SIZE[0], 0.0, SIZE[0]]), np.array([0.0, 0.0, SIZE[1], SIZE[1]])
    off = np.hypot(*np.subtract(found.source(*corner), truth.source(*corner)))
    assert off.max() < 0.15


def test_other_fields_are_refused() -> None:
    assert [match_rigid(field(n), field(1000 + n)) for n in range(40)] == [None] * 40
    assert match_rigid(field(1, 4), field(1, 4)) is None


def layers(
    planes: np.ndarray, noise: np.ndarray, light: np.ndarray, places: list[Rigid] | None = None
) -> list[FrameLayer]:
    return [
        FrameLayer(
            p.shape,
            lambda y0, y1, x0, x1, p=p: p[y0:y1, x0:x1],
            place,
            100.0,
            float(s),
            float(t),
            float((t / s) ** 2),
        )
        for p, s, t, place in zip(
            planes, noise, light, places or [Rigid()] * len(planes), strict=True
        )
    ]


def test_a_stack_of_unequal_frames_reaches_the_optimum_and_loses_trails_and_hot_pixels() -> None:
    rng = np.random.default_rng(5)
    shape = (160, 240)
    yy, xx = np.mgrid[0 : shape[0], 0 : shape[1]]
    truth = (40 * np.exp(-((xx - 120) ** 2 + (yy - 80) ** 2) / 900)).astype(np.float32)
    noise, light = (
        np.array([3.0, 4, 3, 6, 3, 3, 5, 3]),
        np.array([1.0, 1, 0.9, 0.5, 1, 0.95, 1, 0.3]),
    )
    planes = np.stack(
        [100 + t * truth + rng.normal(0, s, shape) for s, t in zip(noise, light, strict=True)]
    ).astype(np.float32)
    clean = planes.copy()
    bad = np.zeros(planes.shape, bool)
    for n in range(8):  # hot pixels at other places in every frame, a trail in two
        bad[n, rng.integers(0, 160, 60), rng.integers(0, 240, 60)] = True
    bad[0, np.arange(160), np.arange(160) + 20] = True
    bad[5, np.arange(160), 200 - np.arange(160)] = True
    planes[bad] += 60
    made = quick_stack(layers(planes, noise, light), shape)
    weight = (light / noise) ** 2
    optimum = 1 / np.sqrt(weight.sum())
    assert (made.data - truth).std() < 1.03 * optimum
    kept = [
        quick_stack(layers(np.where(bad, p, clean), noise, light), shape).data
        for p in (planes, clean)
    ]
    assert (
        np.abs(kept[0] - kept[1]).mean() < 0.08 * optimum
    )  # the same with and without what was bad
    wide = sum(
        cv2.dilate(p.astype(np.uint8), np.ones((7, 7), np.uint8)).mean() for p in bad[[0, 5]]
    )
    assert 0.65 * bad.mean() < made.rejected < wide / 8 + bad.mean()  # trails go with their wings
    assert quick_stack(layers(clean, noise, light), shape).rejected < 2e-4
    shares = made.data[60:100, 100:140].sum() / truth[60:100, 100:140].sum()
    assert shares == pytest.approx(1, abs=0.01)


def test_frames_are_laid_where_they_belong_whatever_the_band(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    shape = (120, 160)
    yy, xx = np.mgrid[0:120, 0:160].astype(np.float64)

    def scene(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        return 50 * np.exp(-((x - 70) ** 2 + (y - 55) ** 2) / 60) + 30 * np.exp(
            -((x - 30) ** 2 + (y - 90) ** 2) / 40
        )

    places = [
        Rigid(),
        Rigid(np.deg2rad(2.0), 3.3, -4.1),
        Rigid(np.pi + np.deg2rad(0.7), 158.6, 118.2),
    ]
    planes = []
    for place in places:
        c, s = np.cos(place.angle), np.sin(place.angle)
        u, v = xx - place.dx, yy - place.dy
        planes.append(100 + scene(c * u + s * v, -s * u + c * v))
    stacked = np.stack(planes).astype(np.float32)
    whole = quick_stack(layers(stacked, np.full(3, 0.3), np.ones(3), places), shape).data
    inside = np.isfinite(whole)
    assert inside.mean() > 0.97
    assert np.abs(whole - scene(xx, yy))[inside].max() < 0.6
    monkeypatch.setattr("bichromus.core.pool.quick._BAND_BYTES", 1)  # eight rows at a time
    assert (
        np.nanmax(
            np.abs(
                quick_stack(layers(stacked, np.full(3, 0.3), np.ones(3), places), shape).data
                - whole
            )
        )
        < 0.5
    )


def test_few_frames_and_none() -> None:
    plane = np.full((1, 8, 8), 7.0, np.float32)
    plane[0, 2, 2] = np.nan
    mean, rejected, seen = combine(plane, np.ones(1), np.ones(1))
    assert (list(rejected), list(seen)) == ([0], [63])
    assert np.isnan(mean[2, 2])
    assert mean[0, 0] == 7
    with pytest.raises(NotEnoughData):
        quick_stack(layers(plane, np.ones(1), np.zeros(1)), (8, 8))

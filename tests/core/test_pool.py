"""Stacks pooled: truth from scenes seen through known air, noise from two independent draws."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from bichromus.cli.main import run
from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.channel import filter_name
from bichromus.core.model.errors import InputError, NotEnoughData, ShapeMismatch
from bichromus.core.model.planes import Header, Picture
from bichromus.core.numerics.poly import fit_poly
from bichromus.core.pool.scale import FluxScale
from bichromus.core.pool.stacks import pool
from bichromus.core.simulate.scene import Scene
from sky import stack_of
from strangers import SKY, UNIT, star_field, threads

AIRS = ({"mag": 21.5}, {"mag": 18.4, "gradient": (0.25, -0.15)}, {"mag": 21.5, "transparency": 0.5})
FLUX = (1.0, 1.0, 0.5)


def trio(scene: Scene, seed: int, band: str = "Ha", subs: int = 40) -> list[Picture]:
    """A good stack, one under a bright, sloping sky, one through haze."""
    header = Header(saturation=1.0, filter=filter_name(band), total_s=subs * 300.0, subs=subs)
    return [
        Picture(
            stack_of(scene, "Ridge", band, subs, 10 * seed + n, **air), header, Path(f"{n}.fits")
        )
        for n, air in enumerate(AIRS)
    ]


@pytest.mark.parametrize("band", ["Ha", "O3"])
def test_pooling_reaches_the_optimum_and_never_falls_below_the_best(
    scene: Scene, band: str
) -> None:
    first, second = trio(scene, 1, band), trio(scene, 2, band)
    quiet = np.s_[10:120, 10:200]

    def noise(a: np.ndarray, b: np.ndarray) -> float:
        apart = (a - b)[quiet]
        return float(1.4826 * np.median(np.abs(apart - np.median(apart))) / np.sqrt(2))

    alone = np.array(
        [noise(a.data, b.data) / f for a, b, f in zip(first, second, FLUX, strict=True)]
    )
    optimum = 1 / np.sqrt((1 / alone**2).sum())
    one, two = pool(first), pool(second)
    assert one.reference == 0
    together = noise(one.data, two.data)
    assert together < optimum / 0.985
    assert together < alone.min()
    for made in (one, two):
        for part, truth in zip(made.parts, FLUX, strict=True):
            assert part.flux.scale == pytest.approx(
                truth, rel=0.015 if part.flux.origin == "stars" else 0.08
            )
        weights = np.array([p.weight for p in made.parts])
        assert weights == pytest.approx(1 / alone**2 / (1 / alone**2).sum(), abs=0.04)
        assert made.together / made.alone == pytest.approx(alone.min() / optimum, rel=0.04)
        assert max(p.rejected for p in made.parts) < 1e-4 * 3
    # the nebula keeps its light, and the slope of the bright sky is gone
    base = stack_of(scene, "Ridge", band, 4000, 5, **AIRS[0])
    bins = [x[:416, :640].reshape(26, 16, 40, 16).mean((1, 3)) for x in (one.data, base)]
    slope = np.polyfit(bins[1].ravel(), bins[0].ravel(), 1)[0]
    assert slope == pytest.approx(1, abs=0.01)
    left = bins[0] - bins[1]
    assert abs(left[:, :8].mean() - left[:, -8:].mean()) < 0.5 * one.parts[0].sigma_eff


def test_outliers_of_one_stack_are_left_out(scene: Scene) -> None:
    pictures = trio(scene, 3)
    rng = np.random.default_rng(0)
    clean = pool(pictures)
    spots = rng.integers(0, 428, 300), rng.integers(0, 640, 300)
    sigma = clean.parts[2].sigma_eff
    spoiled = pictures[2].data.copy()
    spoiled[spots] += 25 * sigma
    made = pool([*pictures[:2], replace(pictures[2], data=spoiled)])
    changed = np.abs(made.data - clean.data)[spots]
    shift = clean.parts[2].weight * 25 * sigma / 0.5
    assert np.mean(changed < 0.5 * shift) > 0.97
    assert made.parts[2].rejected * spoiled.size == pytest.approx(300, rel=0.15)


@pytest.mark.parametrize("loud", [200.0, 1000.0])
def test_a_bright_trail_goes_with_its_wings(loud: float) -> None:
    field = star_field(3)
    light, rng = (field.ground + field.light) / UNIT, np.random.default_rng(5)
    scales = (1.0, 0.8, 1.2)
    planes = [
        light * s + rng.normal(size=light.shape) * np.sqrt(1 + 0.02 * np.maximum(light - SKY, 0))
        for s in scales
    ]
    y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]]
    away = np.abs((x - 100) * np.sin(0.4) - (y - 30) * np.cos(0.4))
    trail = loud * (1 + (away / 2.0) ** 2) ** -2.2
    clean, made = (
        pool([Picture(np.asarray(p, np.float32)) for p in (*planes[:2], planes[2] + extra)])
        for extra in (0.0, trail)
    )
    for part, scale in zip(clean.parts, scales, strict=True):
        assert part.flux.scale / clean.parts[0].flux.scale == pytest.approx(scale, rel=0.015)
    brought = clean.parts[2].weight * trail.sum() / 1.2
    unit = np.median((clean.data / made.data)[away > 40])  # whatever stack leads
    left = unit * made.data - clean.data
    assert abs(left.sum()) < 0.08 * brought
    changed = np.abs(left)[away > 40]
    assert np.quantile(changed, 0.999) < 0.5
    assert made.parts[2].rejected < 0.06


def test_the_cores_of_a_sharp_rigs_stars_stay() -> None:
    fields = [star_field(5, fwhm=w) for w in (2.0, 3.4, 3.4)]
    # the same sky, seen by a sharp rig and two soft ones
    made = pool([Picture(f.stack) for f in fields])
    wanted = sum(p.weight * f.stack / p.flux.scale for p, f in zip(made.parts, fields, strict=True))
    core = fields[0].light > 20 * fields[0].noise
    lost = (wanted - made.data)[core] / fields[0].light[core]
    assert abs(lost.mean()) < 0.01
    assert np.quantile(np.abs(lost), 0.98) < 0.05


@pytest.mark.parametrize("several", [3, 2])
def test_stacks_tell_their_noise_by_what_they_differ_by(several: int) -> None:
    """Under one nebula from edge to edge: a drizzled stack, a plain one, a sharper and fainter one.
    A stack that shares its subs with another tells nothing of it.
    """
    rng = np.random.default_rng(12)
    shape, smear = (520, 700), np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]]) / 16
    light = 0.6 * threads(shape, rng)
    stars = star_field(12, shape, fwhm=3.0)
    light = light + (stars.light / UNIT)
    noise = [rng.normal(size=shape) for _ in range(3)]
    noise[0] = cv2.filter2D(noise[0], -1, smear)
    truth, flux, blur = np.array([1.0, 1.2, 0.7]), np.array([1.0, 0.8, 0.5]), (1.2, 0.9, 0.6)
    planes = [
        SKY + f * cv2.GaussianBlur(light, (0, 0), b) + s * n
        for f, b, s, n in zip(flux, blur, truth, noise, strict=True)
    ]
    pictures = [Picture(p.astype(np.float32)) for p in planes[:several]]
    made = pool(pictures)
    told = np.array([p.sigma_eff for p in made.parts])
    assert told == pytest.approx(truth[:several], rel=0.12 if several > 2 else 0.2)
    worth = (flux / truth)[:several] ** 2
    share = np.array([p.weight for p in made.parts])
    assert (share**2 / (worth / worth.sum())).sum() < (1.01 if several > 2 else 1.02) ** 2
    unit = made.parts[0].flux.scale
    assert made.noise.sigma * unit == pytest.approx(1 / np.sqrt(worth.sum()), rel=0.12)
    twice = pool([pictures[0], replace(pictures[0], data=pictures[0].data * np.float32(2))])
    assert [p.weight for p in twice.parts] == pytest.approx([0.5, 0.5], abs=0.02)
    assert twice.parts[0].sigma_eff == pytest.approx(1.0, rel=0.3)


def test_a_stack_that_is_left_out_is_still_compared(scene: Scene) -> None:
    pictures = trio(scene, 8)
    whole, two = pool(pictures), pool(pictures, out=(0,))
    assert two.parts[0].weight == 0
    assert two.reference != 0
    assert two.parts[0].loss == pytest.approx(
        1 / (1 - whole.parts[0].loss) - 1, rel=0.06
    )  # what it would bring
    assert np.abs(two.data - pool(pictures[1:]).data).max() < 1e-6
    with pytest.raises(InputError, match="nothing to pool"):
        pool(pictures, out=(0, 1))


def test_what_is_not_seen_is_filled_by_the_others(scene: Scene) -> None:
    pictures = trio(scene, 4)
    holed = pictures[0].data.copy()
    holed[100:140, 200:260] = np.nan
    made = pool([replace(pictures[0], data=holed), *pictures[1:]])
    assert np.isfinite(made.data).all()
    whole = pool(pictures).data
    assert np.abs(np.median((made.data - whole)[100:140, 200:260])) < made.parts[1].sigma_eff


def test_scales_that_disagree_are_told_and_useless_stacks_named(scene: Scene) -> None:
    pictures = trio(scene, 5)
    background = float(np.median(pictures[0].data))
    # a wider filter: the stars are twice as bright, the nebula is not
    nebula = stack_of(scene, "Ridge", "Ha", 40, 99, mag=21.5)
    wide = replace(
        pictures[0],
        data=(nebula + (nebula - background) * (nebula > background + 0.02)).astype(np.float32),
    )
    sigma = 12 * pool(pictures).parts[0].sigma_eff
    noisy = replace(
        pictures[1],
        data=(
            pictures[1].data + np.random.default_rng(1).normal(0, sigma, pictures[1].shape)
        ).astype(np.float32),
    )
    made = pool([pictures[0], noisy, wide])
    assert any("adds next to nothing" in w for w in made.warnings)
    assert made.parts[1].weight < 0.01
    assert isinstance(made.parts[2].flux, FluxScale)


def test_a_robust_surface_finds_its_terms_among_outliers() -> None:
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 399, 500), rng.uniform(0, 299, 500)
    u, v = 2 * x / 399 - 1, 2 * y / 299 - 1
    values = 5 + 2 * u - v + 0.7 * u * v + rng.normal(0, 0.05, 500)
    values[:120] += rng.uniform(1, 9, 120)
    found = fit_poly(x, y, values, (300, 400), 2)
    assert np.allclose(found.terms, (5, 2, -1, 0, 0.7, 0), atol=0.03)
    assert found.rows(10, 12) == pytest.approx(
        found.at(np.tile(np.arange(400.0), 2), np.repeat([10.0, 11.0], 400)).reshape(2, 400),
        abs=1e-5,
    )
    assert found.peak_to_peak() == pytest.approx(6.0, abs=0.6)


def test_pool_on_the_command_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, scene: Scene
) -> None:
    files = []
    for n, picture in enumerate(trio(scene, 6)):
        files.append(tmp_path / f"{n}.fits")
        write_fits(files[-1], picture.data, replace(picture.header, station=f"S{n}"))
    out = tmp_path / "pooled.fits"
    assert (
        run(
            [
                "pool",
                *map(str, files),
                "--out",
                str(out),
                "--rejected",
                str(tmp_path / "gone.fits"),
                "--json",
            ]
        )
        == 0
    )
    found = json.loads(capsys.readouterr().out)
    assert [Path(f["file"]).name for f in found["frames"]] == ["0.fits", "1.fits", "2.fits"]
    assert sum(f["weight"] for f in found["frames"]) == pytest.approx(1)
    assert found["frames"][2]["flux_scale"] == pytest.approx(0.5, rel=0.015)
    for frame in found["frames"]:
        assert frame["snr_lost_without"] == pytest.approx(
            1 - (1 - frame["weight"]) ** 0.5, abs=1e-6
        )
    gone = read_picture(tmp_path / "gone.fits").data
    assert 0 < gone.mean() < 0.01
    assert gone.max() == 1  # of three two always stay
    made = read_picture(out)
    assert made.header.total_s == 3 * 40 * 300
    assert made.header.station == "S0, S1, S2"
    assert run(["pool", *map(str, files), "--out", str(out)]) == 2
    assert "exists already" in capsys.readouterr().err
    write_fits(tmp_path / "small.fits", made.data[:200], made.header)
    for words, told in (
        ([files[0], tmp_path / "small.fits"], "Align the stacks first"),
        ([files[0]], "nothing to pool"),
    ):
        assert run(["pool", *map(str, words), "--out", str(tmp_path / "x.fits")]) == 2
        assert told in capsys.readouterr().err


def test_faults_of_a_pool(scene: Scene) -> None:
    one = trio(scene, 7)[0]
    with pytest.raises(InputError, match="nothing to pool"):
        pool([one])
    with pytest.raises(ShapeMismatch):
        pool([one, replace(one, data=one.data[:100])])
    rng = np.random.default_rng(0)
    blank = Picture(
        rng.normal(0.1, 0.001, one.shape).astype(np.float32), Header(), Path("blank.fits")
    )
    with pytest.raises(NotEnoughData, match=r"blank\.fits cannot be compared"):
        pool([one, blank])

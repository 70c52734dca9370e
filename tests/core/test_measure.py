"""Noise, signal and stars against known truth."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from scipy.spatial import cKDTree

from bichromus.cli.main import run
from bichromus.core.align.models import Warp
from bichromus.core.align.resample import resample
from bichromus.core.files import read_picture, write_fits
from bichromus.core.measure import (
    find_stars,
    followed_stars,
    measure_channels,
    measure_noise,
    measure_plane,
    star_mask,
    stars_within,
)
from bichromus.core.measure.subs import SubMeasure, measure_sub
from bichromus.core.measure.transparency import transparency
from bichromus.core.model.errors import ShapeMismatch
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.rig import RIGS
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import Scene, SceneRecipe, StarTable
from filaments import make_filaments
from sky import stack_of
from strangers import UNIT, moffat, star_field, threads, two_parts

SHAPE = (448, 640)


def white(seed: int, shape: tuple[int, int] = SHAPE) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(shape, dtype=np.float32)


def nebula(shape: tuple[int, int] = SHAPE, everywhere: bool = False) -> np.ndarray:
    rng = np.random.default_rng(5)
    cloud = sum(gaussian_filter(rng.standard_normal(shape), s) * s * 4 for s in (3, 6, 12, 25))
    cloud = np.clip(cloud, 0, None) * 3
    if not everywhere:
        cloud[:, shape[1] // 2 :] = 0
    return cloud.astype(np.float32)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_pixel_noise_on_flat_sky_and_beside_nebula(seed: int) -> None:
    sky = 0.02 * white(seed) + 1
    assert measure_noise(sky).sigma_px == pytest.approx(0.02, rel=0.02)
    assert measure_noise(sky + nebula()).sigma_px == pytest.approx(0.02, rel=0.03)


def test_large_scale_noise_by_power_law_and_half_stacks() -> None:
    plane = white(4, (640, 640))
    assert measure_noise(plane).sigma_eff == pytest.approx(1, rel=0.10)
    kernel = np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]], np.float32) / 16
    soft = cv2.filter2D(plane, -1, kernel)
    power = measure_noise(soft)
    assert power.sigma_px < 0.5
    assert power.sigma_eff == pytest.approx(1, rel=0.15)
    halves = (plane * np.sqrt(2), white(5, (640, 640)) * np.float32(np.sqrt(2)))
    found = measure_noise((halves[0] + halves[1]) / 2, halves=halves)
    assert (found.method, found.sigma_eff) == ("half-stacks", pytest.approx(1, rel=0.05))


@pytest.mark.parametrize("smear", [0, 1])
def test_noise_under_nebula_everywhere_is_told_by_its_fine_scales(smear: int) -> None:
    """White noise, and noise that drizzling left smooth, under threads and clouds of some twenty
    times its strength.
    """
    rng = np.random.default_rng(6)
    kernel = np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]]) / 16
    noise = rng.normal(size=(640, 768))
    noise = cv2.filter2D(noise, -1, kernel) if smear else noise
    light = gaussian_filter(threads(noise.shape, rng), 1.4)
    found = measure_noise((noise + 0.3 * light).astype(np.float32))
    assert found.method == "kappa"
    assert found.sigma_eff == pytest.approx(1, rel=0.15)
    assert "nebula reaches everywhere" in found.warnings[0]


def test_large_scale_noise_is_refused_where_hardly_anything_is_clear() -> None:
    avoid = np.ones(SHAPE, bool)
    avoid[:60, :60] = False
    found = measure_noise(white(6), avoid=avoid)
    assert found.sigma_eff is None
    assert "cannot be told from nebula" in found.warnings[0]
    assert found.best == found.sigma_px == pytest.approx(1, rel=0.05)


def field(fwhm: float, seed: int = 9, count: int = 110) -> tuple[np.ndarray, StarTable]:
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(20, SHAPE[1] - 20, count), rng.uniform(20, SHAPE[0] - 20, count)
    stars = StarTable(
        *(
            a.astype(np.float32)
            for a in (x, y, np.zeros(count), np.full(count, 5800.0), np.zeros(count))
        )
    )
    plane = 0.01 * white(seed)
    render_stars(plane, stars, rng.pareto(1.2, count) + 1.5, fwhm)
    return plane, stars


@pytest.mark.parametrize("fwhm", [2.2, 3.0, 4.2])
def test_star_width_and_completeness(fwhm: float) -> None:
    plane, truth = field(fwhm)
    stars = find_stars(plane)
    assert stars.fwhm_px == pytest.approx(fwhm, rel=0.02)
    assert stars.ellipticity == pytest.approx(0, abs=0.06)
    near = [
        np.hypot(truth.x - x, truth.y - y).min() < 1.5
        for x, y in zip(stars.x, stars.y, strict=True)
    ]
    assert np.mean(near) >= 0.97
    assert stars.count >= 0.8 * truth.x.size


def test_nebula_gives_no_stars_and_stars_are_masked() -> None:
    knots = nebula(everywhere=True) + 0.02 * white(8)
    assert find_stars(knots).count <= 3
    plane, truth = field(3.0)
    mask = star_mask(SHAPE, find_stars(plane))
    inside = mask[truth.y.round().astype(int), truth.x.round().astype(int)]
    assert inside.mean() > 0.8
    assert 0.02 < mask.mean() < 0.35


def picture(data: np.ndarray) -> Picture:
    return Picture(data, Header(saturation=1.0))


def test_snr_grows_as_the_root_of_exposure(scene: Scene) -> None:
    hours = [20, 80, 320]
    snrs = [
        measure_plane(picture(stack_of(scene, "Ridge", "O3", subs, 40 + subs))).snr
        for subs in hours
    ]
    assert None not in snrs
    exponent = np.polyfit(np.log(hours), np.log(np.array(snrs, float)), 1)[0]
    assert exponent == pytest.approx(0.50, abs=0.03)


def test_channels_share_mask_and_grid_and_keep_their_own_region(scene: Scene) -> None:
    pictures = {
        n: picture(stack_of(scene, "Ridge", n, 100, i)) for i, n in enumerate(("Ha", "O3", "S2"))
    }
    found = measure_channels(pictures)
    alone = measure_plane(pictures["O3"], "O3")
    assert found["O3"].signal < alone.signal  # the union holds parts where O3 is faint
    assert found["O3"].signal_own == pytest.approx(alone.signal_own, rel=0.05)
    assert found["Ha"].signal > 4 * found["O3"].signal
    width = RIGS["Ridge"].fwhm_arcsec / scene.scale_arcsec
    assert found["Ha"].stars.fwhm_px == pytest.approx(width, rel=0.02)
    pictures["S2"] = picture(pictures["S2"].data[:-4])
    with pytest.raises(ShapeMismatch, match="does not lie on the same grid"):
        measure_channels(pictures)


def test_a_plane_without_signal_gets_no_weight_and_says_so() -> None:
    found = measure_plane(picture(np.abs(0.1 + 0.001 * white(11))))
    assert found.snr is None
    assert found.signal_own == 0
    assert any("No signal" in w for w in found.warnings)


@pytest.mark.parametrize("seed", [15, 34, 41])
def test_the_noise_at_a_mirrored_edge_is_no_signal(seed: int) -> None:
    noise = 1 + 0.02 * np.random.default_rng(seed).standard_normal((256, 384))
    assert measure_plane(Picture(noise.astype(np.float32), Header()), "O3").snr is None


def test_single_nan_pixels_do_not_count() -> None:
    plane, _ = field(3.0)
    hurt = plane.copy()
    hurt[100:103, 200:230] = np.nan
    before, after = measure_plane(picture(plane)), measure_plane(picture(hurt))
    assert after.noise.sigma_px == pytest.approx(before.noise.sigma_px, rel=0.02)


@pytest.mark.parametrize(
    ("stars", "half"), [(800, (9.0, 6.5)), (700, (5.5, 4.0)), (2600, (5.0, 3.6))]
)
@pytest.mark.parametrize("band", ["Ha", "O3"])
def test_stars_are_found_beside_a_bright_nebula(
    stars: int, half: tuple[float, float], band: str
) -> None:
    sky = make_filaments((428, 640), 2.64, 12, SceneRecipe(half_size_arcmin=half, star_count=stars))
    found = find_stars(stack_of(sky, "Ridge", band, 80, 1), 1.0)
    assert found.fwhm_px == pytest.approx(
        RIGS["Ridge"].fwhm_arcsec / 2.64, rel=0.06
    )  # not that of its filaments
    assert found.count > 0.1 * stars
    far = [
        np.hypot(sky.stars.x - x, sky.stars.y - y).min()
        for x, y in zip(found.x, found.y, strict=True)
    ]
    assert np.mean(np.array(far) > 2) < 0.06


def long_stars(dx: np.ndarray, dy: np.ndarray, fwhm: float, beta: float) -> np.ndarray:
    return moffat(dx / 1.2, dy * 1.2, fwhm, beta)


@pytest.mark.parametrize(
    ("count", "fwhm", "profile", "turned", "hot"),
    [
        (300, 3.2, moffat, False, 0),
        (1100, 2.4, moffat, False, 0),
        (300, 3.2, two_parts, True, 0),
        (300, 3.2, long_stars, False, 0),
        (300, 3.2, moffat, False, 150),
    ],
    ids=["plain", "rich", "wings, turned", "long", "hot pixels left"],
)
def test_strangers_stars_are_found_on_threads_and_beside_one_another(
    count: int, fwhm: float, profile: Callable[..., np.ndarray], turned: bool, hot: int
) -> None:
    field = star_field(61, (640, 800), count, fwhm, profile=profile, turned=turned)
    rng = np.random.default_rng(3)
    stack = field.stack.copy()
    pixels = rng.integers(0, stack.size, hot)
    stack.ravel()[pixels] += UNIT * rng.uniform(8, 300, hot).astype(np.float32)
    found = find_stars(stack)
    peak = (
        field.peak
        / field.noise[
            np.clip(np.rint(field.y).astype(int), 0, 639),
            np.clip(np.rint(field.x).astype(int), 0, 799),
        ]
    )
    peak = peak * UNIT
    inside = (field.x > 2) & (field.y > 2) & (field.x < 797) & (field.y < 637)
    there, seen = np.stack([field.x, field.y], 1), np.stack([found.x, found.y], 1)
    near = cKDTree(seen).query(there)[0] < 0.6 * fwhm
    assert near[inside & (peak > 15)].mean() > 0.9
    assert near[inside & (peak > 8) & (peak < 15)].mean() > 0.82
    assert np.mean(cKDTree(there).query(seen)[0] > fwhm) < 0.03
    companions = inside & (peak > 15) & (field.apart > 2) & (field.apart < 3.2)
    assert near[companions].mean() > 0.88


def test_threads_without_stars_give_none() -> None:
    rng = np.random.default_rng(8)
    for loud in (1.0, 6.0):
        plane = (loud * threads((700, 900), rng) + rng.normal(size=(700, 900))).astype(np.float32)
        for width in (None, 2.2, 3.2, 5.0):
            assert find_stars(plane, width=width).count <= 2


def two_subs(
    rng: np.random.Generator, stars: int, junk: int, light: float, turned: bool
) -> tuple[SubMeasure, SubMeasure]:
    """Two subs of one field, dithered, each with peaks that are noise among its stars."""
    x, y = rng.uniform(-100, 1000, stars), rng.uniform(-100, 800, stars)
    flux, step = 10 * (rng.pareto(1.0, stars) + 1), rng.normal(0, 40, 2)
    made = []
    for share, (dx, dy) in ((1.0, (0, 0)), (light, step)):
        places = np.stack([x + dx, y + dy]) + rng.normal(0, 0.2, (2, stars))
        seen = flux * share * np.exp(rng.normal(0, 0.05, stars)) + rng.normal(0, 1, stars)
        here = (places > 0).all(0) & (places < [[900], [700]]).all(0) & (seen > 5)
        count = int(here.sum())
        places = np.concatenate([places[:, here], rng.uniform(0, 1, (2, junk)) * [[900], [700]]], 1)
        seen = np.concatenate([seen[here], rng.uniform(3, 9, junk)])
        if turned and share == light:
            places = np.array([[900], [700]]) - places
        order = np.argsort(seen)[::-1][:200]
        where = (places[0][order], places[1][order])
        made.append(SubMeasure(100.0, 1.0, count, 3.0, 0.1, False, where, seen[order]))
    return made[0], made[1]


def test_the_light_of_a_sub_is_told_by_its_own_stars_and_never_by_chance() -> None:
    for seed in range(80):
        rng = np.random.default_rng(seed)
        stars, junk = int(rng.choice([50, 120, 300])), int(rng.choice([5, 60, 150]))
        light, turned = float(rng.choice([1.0, 0.5])), bool(rng.random() < 0.3)
        found = transparency(*two_subs(rng, stars, junk, light, turned))
        assert found is None or found == pytest.approx(light, rel=0.15), (seed, found)
        other = two_subs(np.random.default_rng(seed + 1000), stars, junk, 1.0, False)[0]
        assert transparency(two_subs(rng, stars, junk, 1.0, False)[0], other) in (None, 0.0)


@pytest.mark.parametrize("seed", range(4))
def test_wide_stars_are_no_cloud(seed: int) -> None:
    """A sub whose focus has run away shows few of its stars: that says nothing of its light."""

    def sub(wide: float, light: float, more: int) -> SubMeasure:
        rng = np.random.default_rng(100 * seed + more)
        plane = rng.normal(500, 6, (260, 390)).astype(np.float32)
        stars = np.random.default_rng(seed)
        x, y = stars.uniform((10, 10), (380, 250), (60, 2)).astype(np.float32).T
        nothing = np.zeros(60, np.float32)
        flux = light * np.exp(stars.uniform(np.log(120), np.log(500), 60))
        render_stars(plane, StarTable(x + more, y - more, nothing, nothing, nothing), flux, wide)
        return measure_sub(plane)

    usual = sub(2.0, 1.0, 1)
    assert usual.stars > 25
    for wide in (3.2, 3.8, 4.6):
        soft = sub(wide, 1.0, 3)
        found = transparency(usual, soft)
        if soft.fwhm_px is not None:
            assert found is None or found == pytest.approx(1.0, abs=0.3)
    assert transparency(usual, sub(2.0, 0.02, 2)) == 0.0


@pytest.mark.parametrize("shape", [(331, 517), (129, 640), (1087, 403)])
def test_noise_of_any_size_with_gaps_and_a_border(shape: tuple[int, int]) -> None:
    rng = np.random.default_rng(shape[0])
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]]
    light = 6 * np.exp(-(((x - 0.4 * shape[1]) ** 2 + (y - 0.5 * shape[0]) ** 2) / (2 * 24.0**2)))
    plane = (100 + 0.004 * x + light + rng.normal(0, 1.5, shape)).astype(np.float32)
    plane[:, -40:] = 100.0  # an even border that stacking left
    plane[10:60, 20:90] = np.nan
    made = measure_plane(Picture(plane))
    assert made.noise.sigma_px == pytest.approx(1.5, rel=0.03)
    assert made.noise.best == pytest.approx(1.5, rel=0.1)
    assert 0.5 < made.signal_own < 6


def test_stars_are_followed_to_another_grid_as_if_sought_there() -> None:
    plane = star_field(17, (500, 620), 260, 3.4).stack
    found = find_stars(plane)
    c, s = 0.85 * np.cos(0.2), 0.85 * np.sin(0.2)  # source pixels per output pixel, and a turn
    terms = np.array([[310.0, 250.0], [c, s], [-s, c]])
    warp = Warp("affine", terms, (330.0, 300.0), 1.0)
    laid = np.nan_to_num(resample(plane, warp, (600, 660), 1.0).data)
    x, y = warp.back(np.array(found.x), np.array(found.y))
    u, v = warp(x, y)
    assert np.hypot(u - found.x, v - found.y).max() < 1e-6
    followed, sought = followed_stars(laid, found, x, y, 1 / 0.85), find_stars(laid)
    assert sought.fwhm_px is not None
    assert followed.fwhm_px is not None
    assert followed.fwhm_px == pytest.approx(sought.fwhm_px, rel=0.01)
    assert followed.fwhm_px == pytest.approx((found.fwhm_px or 0) / 0.85, rel=0.04)
    assert followed.count == pytest.approx(sought.count, rel=0.06)
    tree = cKDTree(np.stack([followed.x, followed.y], 1))
    bright = np.argsort(sought.flux)[-60:]
    away, at = tree.query(np.stack([sought.x, sought.y], 1)[bright])
    assert np.median(away) < 0.05
    assert np.mean(away < 0.5) > 0.95
    assert np.median(np.array(followed.flux)[at] / np.array(sought.flux)[bright]) == pytest.approx(
        1, abs=0.02
    )


def test_stars_of_a_part_cut_out_are_those_sought_on_it() -> None:
    plane = star_field(18, (500, 620), 260, 3.4).stack
    top = float(np.sort(plane.ravel())[-40])
    whole, part = find_stars(plane, top), np.ascontiguousarray(plane[40:470, 90:600])
    cut, sought = stars_within(part, whole, 90, 40, top), find_stars(part, top)
    assert cut.count == len(cut.x) == pytest.approx(sought.count, rel=0.05)
    assert cut.count < whole.count
    assert cut.saturated == sought.saturated
    assert cut.fwhm_px == pytest.approx(sought.fwhm_px, rel=0.02)
    away, _ = cKDTree(np.stack([cut.x, cut.y], 1)).query(
        np.stack([sought.x, sought.y], 1)[np.argsort(sought.flux)[-60:]]
    )
    assert away.max() < 0.2


def test_values_that_mark_what_was_not_seen_are_no_stars(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Some programs write the largest number there is where a stack has no data."""
    plane, _ = field(3.0)
    marked = plane.copy()
    marked[::9, ::7], marked[5::40, 3::50] = 3e38, -1e34
    path = tmp_path / "marked.fits"
    write_fits(path, marked, Header())
    found, clean = measure_plane(read_picture(path)), measure_plane(Picture(plane, Header()))
    assert found.stars.count == pytest.approx(clean.stars.count, abs=2)
    assert found.noise.sigma_px == pytest.approx(clean.noise.sigma_px, rel=0.05)
    assert run(["measure", str(path)]) == 0
    said = capsys.readouterr()
    assert "pixels without a finite value are left out" in said.out
    assert said.err == ""


def test_a_search_on_numbers_beyond_all_bounds_ends() -> None:
    plane, _ = field(3.0)
    plane[::7, ::5] = 3e38
    with np.errstate(all="ignore"):
        assert find_stars(plane).count < 5

"""Stacks of other rigs on one grid: truth from star lists and scenes at known places."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
import scipy

from bichromus.cli.main import run
from bichromus.core.align.crop import largest_box
from bichromus.core.align.judge import FOLDS, Judge
from bichromus.core.align.match import match
from bichromus.core.align.models import ORDER, Warp, choose, fit, foretold
from bichromus.core.align.resample import resample
from bichromus.core.files import read_picture, write_fits
from bichromus.core.measure.stars import find_stars
from bichromus.core.model.errors import NotEnoughData
from bichromus.core.model.planes import Header
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.numerics.compiled import OFF
from bichromus.core.numerics.spline import Guard, Padded, Spline
from bichromus.core.simulate.camera import Sky, mono_stack, render_stars
from bichromus.core.simulate.scene import Scene, StarTable

SHAPE = (1000, 1500)


def affine(a: np.ndarray, b: np.ndarray) -> Warp:
    return Warp("affine", np.array([b, a[:, 0], a[:, 1]], float), (0.0, 0.0), 1.0)


def lists(seed: int) -> tuple[tuple, tuple, complex, complex, bool, np.ndarray, np.ndarray]:
    """Two lists of one sky: turned, scaled, every second mirrored, 30 % lost and as many false ones
    in each.
    """
    rng = np.random.default_rng(seed)
    height, width = SHAPE
    count = int(rng.integers(600, 3000))
    x, y, flux = (
        rng.uniform(-600, width + 600, count),
        rng.uniform(-600, height + 600, count),
        rng.pareto(1.2, count) + 0.1,
    )
    mirror = bool(seed % 2)
    a = np.exp(rng.uniform(np.log(0.5), np.log(2))) * np.exp(1j * rng.uniform(0, 2 * np.pi))
    centre = complex(width / 2 + rng.uniform(-400, 400), height / 2 + rng.uniform(-300, 300))
    z = x + 1j * y - centre
    w = a * (np.conj(z) if mirror else z) + complex(width / 2, height / 2)

    def seen(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        keep = (u >= 0) & (u < width) & (v >= 0) & (v < height) & (rng.random(count) < 0.7)
        junk = keep.sum() // 3
        return (
            np.r_[u[keep] + rng.normal(0, 0.1, keep.sum()), rng.uniform(0, width, junk)],
            np.r_[v[keep] + rng.normal(0, 0.1, keep.sum()), rng.uniform(0, height, junk)],
            np.r_[flux[keep] * rng.lognormal(0, 0.3, keep.sum()), rng.pareto(1.2, junk) + 0.1],
            keep,
        )

    one, two = seen(x, y), seen(w.real, w.imag)
    both = one[3] & two[3]
    return (
        one[:3],
        two[:3],
        a,
        centre,
        mirror,
        np.stack([x[both], y[both]]),
        np.stack([w.real[both], w.imag[both]]),
    )


@pytest.mark.parametrize("seed", range(24))
def test_any_turn_mirror_and_scale_is_found(seed: int) -> None:
    one, two, a, _, mirror, here, there = lists(seed)
    found = match(one[:2], two[:2], one[2], two[2], SHAPE, SHAPE)
    u, v = found.warp(here[0], here[1])
    assert np.sqrt(((u - there[0]) ** 2 + (v - there[1]) ** 2).mean()) < 0.15
    assert found.mirror == mirror
    assert found.scale == pytest.approx(abs(a), rel=1e-3)
    assert not found.doubtful


def test_other_skies_are_refused_with_the_reason() -> None:
    for seed in range(2):
        one, two = lists(2 * seed)[0], lists(2 * seed + 1001)[1]
        with pytest.raises(NotEnoughData, match="do not lie on each other"):
            match(one[:2], two[:2], one[2], two[2], SHAPE, SHAPE)
    few = (np.arange(4.0), np.arange(4.0))
    with pytest.raises(NotEnoughData, match="too few stars"):
        match(few, few, few[0], few[0], SHAPE, SHAPE)


def test_a_richer_model_is_taken_only_where_it_is_needed() -> None:
    rng = np.random.default_rng(4)
    x, y = rng.uniform(0, 1500, 300), rng.uniform(0, 1000, 300)
    u, v = (x - 750) / 750, (y - 500) / 750
    straight = (1.1 * x - 0.2 * y + 5, 0.2 * x + 1.1 * y - 3)
    bent = (straight[0] + 4 * u * u - 2 * u * v, straight[1] + 3 * v * v)
    tilted = tuple(p / (1 + 0.004 * u) for p in straight)
    noise = rng.normal(0, 0.08, (2, 300))
    for source, model in ((straight, "similarity"), (bent, "poly2"), (tilted, "homography")):
        seen = source[0] + noise[0], source[1] + noise[1]
        seen[0][:20] += rng.uniform(5, 9, 20)  # wrong pairs
        warp, keep, rms = choose((x, y), seen, mirror=False)
        assert warp.model == model
        assert not keep[:20].any()
        assert rms < 0.14
        a, b = warp(x, y)
        assert np.hypot(a - source[0], b - source[1]).max() < 0.12
    flipped = fit("similarity", (x, y), (x, 900 - y), mirror=True)
    assert np.allclose(flipped(x, y)[1], 900 - y)


def starfield(
    shape: tuple[int, int], fwhm: float, seed: int = 3, count: int = 60
) -> tuple[np.ndarray, StarTable, np.ndarray]:
    rng = np.random.default_rng(seed)
    x, y = (rng.uniform(20, n - 20, count).astype(np.float32) for n in (shape[1], shape[0]))
    table = StarTable(x, y, *(np.zeros(count, np.float32) for _ in range(3)))
    flux = rng.uniform(500, 5000, count)
    plane = np.zeros(shape, np.float32)
    render_stars(plane, table, flux, fwhm)
    return plane, table, flux


def test_resampling_keeps_light_and_does_not_ring() -> None:
    turn = np.deg2rad(31)
    for scale in (1.0, 0.7, 1.4):
        a = scale * np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
        plane, table, _flux = starfield((420, 420), 2.4 * max(scale, 1), count=24)
        b = np.array([210.0, 210.0]) - a @ np.array([210.0, 210.0])
        made = resample(plane, affine(a, b), (420, 420), sigma=1e-3)
        back = np.linalg.inv(a) @ (np.stack([table.x, table.y]) - b[:, None])
        apart = np.hypot(back[0][:, None] - back[0], back[1][:, None] - back[1]) + 1e9 * np.eye(24)
        inside = (np.abs(back - 210).max(0) < 170) & (apart.min(1) > 44)
        assert inside.sum() > 2
        for n in np.flatnonzero(inside):
            x, y = int(back[0][n]), int(back[1][n])
            light = np.nansum(made.data[y - 12 : y + 14, x - 12 : x + 14]) * scale**2
            whole = plane[
                int(table.y[n]) - 16 : int(table.y[n]) + 18,
                int(table.x[n]) - 16 : int(table.x[n]) + 18,
            ].sum()
            assert light == pytest.approx(whole, rel=0.012)
        assert np.nanmin(made.data) > -0.002 - 1e-3 * plane.max()
        assert made.scale == pytest.approx(scale)
    assert resample(plane, affine(np.eye(2), np.zeros(2)), (420, 420), 1.0).data == pytest.approx(
        plane, abs=1e-3
    )


def test_noise_and_holes_are_carried_on() -> None:
    rng = np.random.default_rng(2)
    plane = rng.normal(100, 3, (500, 500)).astype(np.float32)
    plane[200:206, 240:250] = np.nan
    a = np.array([[0.94, -0.34], [0.34, 0.94]])
    made = resample(plane, affine(a, np.array([20.3, -30.7])), (400, 400), 3.0)
    quiet = made.data[np.isfinite(made.data)]
    assert quiet.std() / 3 == pytest.approx(made.noise_factor, rel=0.02)
    assert made.noise_factor == pytest.approx(0.877, abs=0.01)
    hole = np.linalg.inv(a) @ (np.array([245, 203]) - [20.3, -30.7])
    assert np.isnan(made.data[round(hole[1]), round(hole[0])])
    assert 40 < np.isnan(made.data[50:350, 100:350]).sum() < 220


def test_the_largest_box() -> None:
    seen = np.zeros((60, 80), bool)
    seen[10:50, 5:70] = True
    seen[10:20, 5:30] = False
    seen[30, 40] = False  # a hole of one pixel
    assert largest_box(seen) in ((5, 20, 70, 50), (30, 10, 70, 50))
    assert largest_box(seen, 1) != largest_box(seen)
    assert largest_box(np.zeros((5, 5), bool)) is None


def test_the_largest_box_of_any_mask_is_the_one_that_trying_all_finds() -> None:
    rng = np.random.default_rng(3)
    for share in (0.4, 0.7, 0.9, 1.0) * 4:
        seen = rng.random((9, 12)) < share
        whole = np.zeros((10, 13), int)
        whole[1:, 1:] = seen.cumsum(0).cumsum(1)
        best = max(
            (d - b) * (c - a)
            for a in range(12)
            for b in range(9)
            for c in range(a + 1, 13)
            for d in range(b + 1, 10)
            if whole[d, c] - whole[b, c] - whole[d, a] + whole[b, a] == (d - b) * (c - a)
        )
        box = largest_box(seen, 1)
        assert box is not None
        assert seen[box[1] : box[3], box[0] : box[2]].all()
        assert (box[2] - box[0]) * (box[3] - box[1]) == best


def test_a_grid_lies_where_its_points_lie() -> None:
    rng = np.random.default_rng(5)
    x, y = rng.uniform(0, 900, 200), rng.uniform(0, 700, 200)
    u = 1.1 * x - 0.2 * y + 3e-5 * x * y + 20
    v = 0.9 * y + 0.1 * x - 2e-8 * x * x * y
    columns, rows = np.arange(-20.0, 950, 37), np.arange(5.0, 800, 41)
    for model in ORDER:
        warp = fit(model, (x, y), (u, v))
        expected = warp(*np.meshgrid(columns, rows))
        for found, one in zip(warp.grid(columns, rows), expected, strict=True):
            assert found == pytest.approx(one, abs=1e-8)


def test_a_spline_is_that_of_a_library_up_to_the_edges() -> None:
    rng = np.random.default_rng(6)
    plane = rng.normal(5, 2, (40, 60)).astype(np.float32)
    u, v = rng.uniform(0, 59, (30, 50)), rng.uniform(0, 39, (30, 50))
    u[0], v[0], u[1], v[2] = 0, 39, 59, 0
    spline = Spline(plane)
    expected = scipy.ndimage.map_coordinates(plane.astype(float), [v, u], order=3, mode="mirror")
    assert spline.at(spline.places(u, v)) == pytest.approx(expected, abs=2e-5)


@pytest.mark.parametrize("holed", [False, True])
def test_compiled_sampling_is_the_plain_way_bit_by_bit(
    holed: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(7)
    plane = rng.normal(5, 2, (120, 160)).astype(np.float32)
    plane[40:43, 50:54] = 90  # a full star
    if holed:
        plane[80:90, 100:130] = np.nan
    warp = Warp("affine", np.array([[-6.2, 3.1], [0.98, 0.11], [-0.12, 1.03]]), (0.0, 0.0), 1.0)

    def laid() -> np.ndarray:
        return resample(plane, warp, (150, 170), 0.5, saturation=95.0).data

    quick = laid()
    monkeypatch.setenv(OFF, "1")
    assert np.array_equal(quick, laid(), equal_nan=True)
    assert 0.3 < np.isfinite(quick).mean() < 0.95


@pytest.mark.parametrize("plainly", [False, True])
def test_places_that_are_nowhere_hold_nothing(
    plainly: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if plainly:
        monkeypatch.setenv(OFF, "1")
    plane = np.random.default_rng(8).normal(5, 2, (40, 60)).astype(np.float32)
    guard = Guard(Spline(plane), Padded.of(plane - 9))
    u = np.array([[np.nan, np.inf, -np.inf, 1e300, -1e-9, 59.0, 0.0]])
    v = np.array([[3.0, 3.0, 3.0, 3.0, 3.0, 39.0, np.nan]])
    found = guard.at(u, v)[0]
    assert np.isnan(found[[0, 1, 2, 3, 4, 6]]).all()
    assert found[5] == pytest.approx(plane[39, 59], abs=1e-3)


def moved(scene: Scene, a: np.ndarray, b: np.ndarray) -> Scene:
    """The scene as another rig sees it: source = a output + b."""
    back = np.c_[np.linalg.inv(a), -np.linalg.inv(a) @ b]
    lines = {
        n: cv2.warpAffine(p, back, p.shape[::-1], flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
        for n, p in scene.lines.items()
    }
    xy = a @ np.stack([scene.stars.x, scene.stars.y]) + b[:, None]
    stars = replace(scene.stars, x=xy[0].astype(np.float32), y=xy[1].astype(np.float32))
    return Scene(
        scene.scale_arcsec, lines, {n: np.zeros_like(p) for n, p in scene.continuum.items()}, stars
    )


@pytest.fixture(scope="module")
def pair(
    tmp_path_factory: pytest.TempPathFactory, scene: Scene
) -> tuple[Path, Path, np.ndarray, np.ndarray]:
    """A stack, and the same sky mirrored, turned and coarser."""
    folder = tmp_path_factory.mktemp("pair")
    a = (
        0.8
        * np.array([[np.cos(0.35), -np.sin(0.35)], [np.sin(0.35), np.cos(0.35)]])
        @ np.diag([1, -1])
    )
    b = np.array([320.0, 214.0]) - a @ np.array([330.0, 205.0])
    header = Header(saturation=1.0, pixel_um=3.76, focal_mm=440)
    for number, (name, sky) in enumerate((("ref", scene), ("other", moved(scene, a, b)))):
        data = mono_stack(
            sky, RIGS["Ridge"], FILTERS["Ha"], Sky(21.5), 40, 300.0, np.random.default_rng(number)
        )
        write_fits(folder / f"{name}.fits", data, header)
    return folder / "ref.fits", folder / "other.fits", a, b


def align(capsys: pytest.CaptureFixture[str], *words: object) -> dict:
    assert run(["align", *map(str, words), "--json"]) == 0
    return dict(json.loads(capsys.readouterr().out))


def test_align_on_the_command_line(
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
    pair: tuple[Path, Path, np.ndarray, np.ndarray],
) -> None:
    ref, other, _a, _ = pair
    before = [p.read_bytes() for p in (ref, other)]
    found = align(capsys, "--reference", ref, other, "--out", tmp_path / "o")
    frame, home = found["frames"]
    assert (frame["mirror"], frame["model"]) == (True, "similarity")
    assert frame["scale"] == pytest.approx(0.8, rel=2e-3)
    assert frame["angle_deg"] == pytest.approx(np.rad2deg(0.35), abs=0.1)
    assert frame["sigma_ls_ratio"] == pytest.approx(1.25, rel=2e-3)
    assert frame["rms_px"] < 0.25
    assert home["model"] == "reference"
    x0, y0, x1, y1 = found["crop"]
    laid, kept = read_picture(Path(frame["out"])), read_picture(Path(home["out"]))
    assert laid.shape == kept.shape == (y1 - y0, x1 - x0)
    assert np.isfinite(laid.data).all()
    assert laid.header.scale_arcsec == pytest.approx(206.265 * 3.76 / 440 * 0.8, rel=2e-3)
    one, two = find_stars(laid.data), find_stars(kept.data)
    far = [
        np.hypot(np.array(two.x) - x, np.array(two.y) - y).min()
        for x, y in zip(one.x[:60], one.y[:60], strict=True)
    ]
    assert np.median(far) < 0.8  # peaks are whole pixels
    wide = align(capsys, "--reference", ref, other, "--out", tmp_path / "u", "--crop", "union")
    assert wide["crop"][0] < 0
    assert wide["crop"][2] > kept.shape[1]
    same = align(capsys, "--reference", ref, other, "--out", tmp_path / "r", "--crop", "reference")
    assert read_picture(Path(same["frames"][0]["out"])).shape == read_picture(ref).shape
    assert same["frames"][0]["coverage"] < 1
    assert [p.read_bytes() for p in (ref, other)] == before
    assert run(["align", "--reference", str(ref), str(other), "--out", str(tmp_path / "o")]) == 2
    assert "exists already" in capsys.readouterr().err


def test_what_cannot_be_aligned_is_one_sentence(
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
    pair: tuple[Path, Path, np.ndarray, np.ndarray],
) -> None:
    ref = pair[0]
    rng = np.random.default_rng(9)
    elsewhere = starfield((300, 400), 2.5, 77)[0]
    write_fits(
        tmp_path / "elsewhere.fits",
        (elsewhere / 5000 + rng.normal(0.1, 0.001, (300, 400))).astype(np.float32),
        Header(),
    )
    write_fits(
        tmp_path / "empty.fits", rng.normal(0.1, 0.001, (300, 400)).astype(np.float32), Header()
    )
    stretched = np.sqrt(np.clip(read_picture(ref).data, 0, 1)) ** 0.5
    write_fits(tmp_path / "stretched.fits", stretched.astype(np.float32), Header())
    for name, words in (
        ("elsewhere", "do not lie on each other"),
        ("empty", "stars"),
        ("stretched", "already stretched"),
    ):
        assert (
            run(
                [
                    "align",
                    "--reference",
                    str(ref),
                    str(tmp_path / f"{name}.fits"),
                    "--out",
                    str(tmp_path / "o"),
                ]
            )
            == 2
        )
        told = capsys.readouterr().err
        assert words in told
        assert f"{name}.fits" in told
    assert run(["align", "--reference", str(ref), str(ref), "--out", str(tmp_path / "o")]) == 2
    assert "nothing to align" in capsys.readouterr().err


@pytest.mark.parametrize("mirror", [False, True])
@pytest.mark.parametrize("model", ORDER)
def test_folds_judged_at_once_are_folds_fitted_one_by_one(model: str, mirror: bool) -> None:
    rng = np.random.default_rng(5)
    x, y = rng.uniform(0, 1600, 240), rng.uniform(0, 1100, 240)
    u, v = 1.1 * x - 0.2 * y + 1e-5 * x * y, 0.2 * x + 1.1 * y + 1e-5 * y**2
    v = 1100 - v if mirror else v
    u, v = (a + rng.normal(0, 0.3, 240) for a in (u, v))
    u[:4] += 90.0
    fold = np.random.default_rng(0).permutation(240) % FOLDS
    total = 0.0
    for n in range(FOLDS):
        seen = fold != n
        warp = fit(model, (x[seen], y[seen]), (u[seen], v[seen]), mirror)
        at = warp(x[~seen], y[~seen])
        off = np.hypot(at[0] - u[~seen], at[1] - v[~seen])
        total += (np.minimum(off, 20.0) ** 2).sum()
    found = foretold(Judge((x, y), (u, v)), model, mirror)
    assert found == pytest.approx(np.sqrt(total / 240), rel=2e-3)

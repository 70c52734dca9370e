"""Gradient and continuum: truth from what the simulator added."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from bichromus.cli.main import run
from bichromus.core.clean.chroma import colour_stars
from bichromus.core.clean.continuum import find_continuum
from bichromus.core.clean.gradient import find_gradient
from bichromus.core.clean.split import split_stars
from bichromus.core.files import read_picture, write_fits
from bichromus.core.measure.drawing import draw_stars
from bichromus.core.measure.profiles import Shape
from bichromus.core.model.errors import InputError, NotEnoughData, ShapeMismatch
from bichromus.core.model.measures import Stars
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.numerics.robust import step_sigma
from bichromus.core.simulate.camera import (
    Aberrations,
    Sky,
    continuum_rate,
    mono_stack,
    render_stars,
)
from bichromus.core.simulate.scene import Scene, SceneRecipe, StarTable
from filaments import make_filaments
from sky import stack_of
from strangers import UNIT, moffat, star_field, threads, two_parts


@pytest.fixture(scope="module")
def wide() -> Scene:
    """A nebula that leaves some sky around it."""
    return make_filaments(
        (428, 640), 2.64, 21, SceneRecipe(half_size_arcmin=(6.0, 4.5), star_count=900)
    )


def slope(values: np.ndarray) -> float:
    """Peak to peak of a smooth plane."""
    return float(np.ptp(values))


@pytest.mark.parametrize(("degree", "shape"), [(1, "tilt"), (2, "bowl"), (3, "twist")])
def test_a_gradient_is_found_with_its_degree_and_taken_off(
    wide: Scene, degree: int, shape: str
) -> None:
    clean = stack_of(wide, "Ridge", "Ha", 60, 3, mag=21.5)
    sigma = float(1.4826 * np.median(np.abs(np.diff(clean[:60, :100], axis=1)))) / 2**0.5
    v, u = np.meshgrid(np.linspace(-1, 1, 428), np.linspace(-1, 1, 640), indexing="ij")
    added = {
        "tilt": 8 * u - 5 * v,
        "bowl": 6 * u * u + 4 * u * v - 3 * v,
        "twist": 9 * u**3 - 4 * u + 5 * v * v * u,
    }[shape] * sigma
    picture = Picture((clean + added).astype(np.float32), Header(saturation=1.0))
    found = find_gradient(picture)
    assert degree <= found.degree <= degree + 1
    left = found.take_off(picture.data) - clean
    assert slope(left) < 0.08 * slope(added)
    assert found.before_sigma == pytest.approx(slope(added) / sigma, rel=0.35)
    assert found.after_sigma < 0.1 * found.before_sigma
    centre = np.s_[190:240, 280:360]
    nebula = np.median(clean[centre]) - np.median(clean[:60, :100])
    assert abs(np.median(left[centre]) - np.median(left[:60, :100])) < 0.02 * nebula + 0.6 * sigma


def test_a_flat_sky_stays_and_nebula_everywhere_is_told(wide: Scene) -> None:
    flat = Picture(
        stack_of(wide, "Ridge", "Ha", 60, 4, mag=21.5, gradient=(0.0, 0.0)), Header(saturation=1.0)
    )
    found = find_gradient(flat)
    assert (
        slope(found.take_off(flat.data) - flat.data)
        < 0.8 * found.before_sigma * 0 + 1.5 * 0.001 + 3e-4
    )
    full = make_filaments(
        (428, 640), 2.64, 8, SceneRecipe(half_size_arcmin=(40.0, 30.0), star_count=300)
    )
    covered = find_gradient(Picture(stack_of(full, "Ridge", "Ha", 60, 5), Header(saturation=1.0)))
    assert covered.degree <= 2
    drawn = np.zeros(flat.shape, bool)
    drawn[:, 100:] = True  # what the person draws does not count
    masked = find_gradient(flat, avoid=drawn)
    assert masked.tiles.x.max() < 110
    with pytest.raises(InputError, match="no sky left"):
        find_gradient(flat, avoid=np.ones(flat.shape, bool))
    with pytest.raises(InputError, match="no gradient of this degree"):
        find_gradient(flat, degree=7)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_outskirts_of_a_nebula_are_not_taken_for_a_slope(seed: int) -> None:
    """A stranger's nebula that fades toward the edges, on a sky that slopes and bends: a surface of a
    higher degree than the sky's would fit the nebula, too.
    """
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:520, 0:680] / np.array([520, 680])[:, None, None] - 0.5
    light = 0.5 * np.maximum(threads(y.shape, rng), 0) * np.clip(1.3 - 2.6 * np.hypot(x, y), 0, 1)
    a, b = rng.uniform(-16, 16, 2)
    sky = 100 + a * x + b * y + 4 * x * y
    plane = 1e-3 * (sky + light + rng.normal(size=y.shape))
    found = find_gradient(Picture(plane.astype(np.float32), Header()))
    assert found.degree <= 2
    assert np.std(1e3 * found.model.rows(0, 520) - sky) < 0.15


def test_the_continuum_is_found_on_the_stars(wide: Scene) -> None:
    header = Header(saturation=1.0)
    line = Picture(stack_of(wide, "Ridge", "Ha", 60, 6, mag=21.5), header)
    broad = Picture(stack_of(wide, "Ridge", "R", 60, 7, mag=21.5), header)
    rig, stars = RIGS["Ridge"], wide.stars
    flux = [
        continuum_rate(rig, stars.ab_mag(nm), nm, FILTERS[b].width_nm)
        for b, nm in (("Ha", 656.3), ("R", 630.0))
    ]
    bright = np.argsort(stars.mag)[20:300]
    truth = float(np.median((flux[0] / flux[1])[bright]))
    found = find_continuum(line, broad)
    assert found.k == pytest.approx(truth, rel=0.03)
    assert found.stars > 60
    assert found.error < 0.03 * found.k
    made = found.take_off(line.data, broad.data)
    left = []
    for n in bright[:60]:  # stars vanish, the nebula stays
        x, y = int(stars.x[n]), int(stars.y[n])
        if 12 < x < 628 and 12 < y < 416:
            box = np.s_[y - 5 : y + 7, x - 5 : x + 7]
            before, after = (
                (p[box] - np.median(p[y - 10 : y + 12, x - 10 : x + 12])).sum()
                for p in (line.data, made)
            )
            left.append(after / before)
    assert abs(np.median(left)) < 0.06
    # a broader star image in the line is matched first
    soft = replace(line, data=stack_of(wide, "Shed", "Ha", 60, 8, mag=21.5))
    wider = find_continuum(soft, broad)
    assert wider.blur_broad > 0.3
    assert wider.blur_line == 0


def test_full_stars_leave_no_deep_rings_where_a_softer_rigs_continuum_comes_off() -> None:
    stars = ((0.36, 0.36, 4.8), (0.62, 0.64, 5.6), (0.2, 0.7, 7.0))
    recipe = SceneRecipe(half_size_arcmin=(6.0, 4.5), star_count=900, beacons=stars)
    sky = make_filaments((428, 640), 2.64, 22, recipe)
    none = np.zeros(0)
    dark = replace(sky, stars=StarTable(none, none, none, none, none))
    header = Header(saturation=1.0)
    line = Picture(stack_of(sky, "Ridge", "Ha", 60, 6), header)
    broad = Picture(stack_of(sky, "Shed", "R", 60, 7), header)
    found = find_continuum(line, broad)
    assert len(found.full) >= 3
    alone = replace(found, full=())
    nebula = alone.take_off(
        stack_of(dark, "Ridge", "Ha", 9000, 8), stack_of(dark, "Shed", "R", 9000, 9)
    )
    y, x = np.mgrid[0:428, 0:640]
    sigma = step_sigma(found.take_off(line.data, broad.data) - nebula)
    for core in found.full[:3]:
        away = np.hypot(x - core.x, y - core.y)
        rings = [(away >= r) & (away < r + 3) for r in range(0, 40, 3)]
        before, after = (
            np.array([np.median((made - nebula)[r]) for r in rings])
            for made in (c.take_off(line.data, broad.data) for c in (alone, found))
        )
        assert np.abs(after[2:]).max() < 0.06 * np.abs(before[2:]).max()
        if core.pixels < 9:  # a star as many fields hold; the others outshine all but the brightest
            assert np.abs(after).max() < 1.5 * sigma
        assert np.abs(after[:2]).max() < 0.002 * np.abs(before[:2]).max()  # the core is bridged


def test_a_loud_star_of_another_width_goes_and_a_nucleus_stays() -> None:
    field = star_field(17, count=160)
    y, x = np.mgrid[0 : field.stack.shape[0], 0 : field.stack.shape[1]].astype(float)
    odd = 20_000 * UNIT * moffat(x - 300.3, y - 200.6, 1.35 * 3.2, 3.0)  # a core that one rig cut
    away = np.hypot(x - 150, y - 330)
    nucleus = UNIT * (9_000 * np.exp(-away / 2.2) + 3_000 * np.exp(-away / 14))
    made = split_stars(Picture((field.stack + odd + nucleus).astype(np.float32)))
    near = np.hypot(x - 300.3, y - 200.6) < 6
    assert made.stars[near].sum() == pytest.approx(odd[near].sum(), rel=0.03)
    assert made.stars[away < 12].sum() < 0.25 * nucleus[away < 12].sum()


def test_faults_of_the_continuum(wide: Scene) -> None:
    line = Picture(stack_of(wide, "Ridge", "Ha", 20, 9), Header(), Path("ha.fits"))
    blank = Picture(
        np.random.default_rng(1).normal(0.1, 0.001, line.shape).astype(np.float32),
        Header(),
        Path("r.fits"),
    )
    with pytest.raises(NotEnoughData, match=r"r\.fits"):
        find_continuum(line, blank)
    with pytest.raises(ShapeMismatch):
        find_continuum(line, replace(blank, data=blank.data[:200]))


def test_clean_on_the_command_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, wide: Scene
) -> None:
    ha, r, out = tmp_path / "ha.fits", tmp_path / "r.fits", tmp_path / "clean.fits"
    write_fits(
        ha, stack_of(wide, "Ridge", "Ha", 60, 10, gradient=(0.4, 0.2)), Header(saturation=1.0)
    )
    write_fits(r, stack_of(wide, "Ridge", "R", 60, 11), Header(saturation=1.0))
    assert (
        run(
            [
                "clean",
                str(ha),
                "--out",
                str(out),
                "--gradient",
                "--continuum",
                f"R={r}",
                "--model",
                str(tmp_path / "m.fits"),
                "--json",
            ]
        )
        == 0
    )
    found = json.loads(capsys.readouterr().out)
    assert found["gradient"]["after_sigma"] < 0.3 * found["gradient"]["before_sigma"]
    assert found["continuum"]["stars_used"] > 40
    assert read_picture(out).shape == read_picture(tmp_path / "m.fits").shape == (428, 640)
    assert run(["clean", str(ha), "--out", str(out), "--gradient"]) == 2
    assert "exists already" in capsys.readouterr().err
    assert run(["clean", str(ha), "--out", str(tmp_path / "x.fits")]) == 2
    assert "nothing to clean" in capsys.readouterr().err


@pytest.fixture(scope="module")
def starry() -> tuple[Scene, np.ndarray, np.ndarray]:
    """A nebula with stars, its O3 stack, and the same without stars and without noise."""
    scene = make_filaments(
        (428, 640), 2.64, 12, SceneRecipe(half_size_arcmin=(9.0, 6.5), star_count=800)
    )
    none = np.zeros(0, np.float32)
    bare = replace(scene, stars=StarTable(none, none, none, none, none))
    return scene, stack_of(scene, "Ridge", "O3", 80, 1), stack_of(bare, "Ridge", "O3", 200_000, 2)


def test_stars_are_split_off_and_nothing_else(starry: tuple[Scene, np.ndarray, np.ndarray]) -> None:
    scene, stack, truth = starry
    made = split_stars(Picture(stack, Header(saturation=1.0)))
    assert np.array_equal(made.starless + made.stars, stack)
    touched = made.stars != 0
    assert touched.mean() < 0.08
    sigma = float(1.4826 * np.median(np.abs(np.diff(stack[:60, :100], axis=1)))) / 2**0.5
    off = made.starless - truth
    rig, stars = RIGS["Ridge"], scene.stars
    flux = continuum_rate(rig, stars.ab_mag(500.7), 500.7, 3.0) * 0.92 * 300 / rig.full_well_e
    fwhm = rig.fwhm_arcsec / 2.64
    strength = flux / (2.27 * fwhm * sigma)
    sky = truth < np.quantile(truth, 0.55)
    left, alone = [], []
    for n in np.flatnonzero(strength > 45):
        x, y = round(float(stars.x[n])), round(float(stars.y[n]))
        if 14 < x < 626 and 14 < y < 414 and sky[y, x]:
            left.append(off[y - 6 : y + 7, x - 6 : x + 7].sum() / flux[n])
            alone.append(off[y - 3 : y + 4, x - 3 : x + 4].std() / sigma)
    assert len(left) > 8
    assert abs(np.median(left)) < 0.02
    assert np.quantile(np.abs(left), 0.8) < 0.06
    assert np.median(alone) < 2.0
    nebula = truth > np.quantile(truth, 0.9)
    lost = (truth - made.starless)[nebula].sum() / (truth[nebula] - np.median(truth)).sum()
    assert abs(lost) < 0.015
    assert abs(made.residual) < 0.02
    assert made.count > 90
    with pytest.raises(NotEnoughData, match="too few stars"):
        split_stars(
            Picture(np.random.default_rng(3).normal(0.1, 0.001, (200, 200)).astype(np.float32))
        )


@pytest.mark.parametrize(
    ("made", "left"),
    [({}, 1.5), ({"turned": True}, 1.7), ({"profile": two_parts, "fwhm": 2.6}, 2.2)],
    ids=("white", "turned", "two parts"),
)
def test_strangers_stars_on_threads_are_split_as_their_noise_allows(
    made: dict[str, Any], left: float
) -> None:
    """The figures that a study of this split gives, on stars as narrow as the threads they are on;
    without a keyword of any kind.
    """
    field = star_field(1, **made)
    split = split_stars(Picture(field.stack, Header()))
    assert np.abs(split.starless + split.stars - field.stack).max() < 1e-6 * field.stack.max()
    inner = np.zeros(field.stack.shape, np.bool_)
    inner[12:-12, 12:-12] = True
    off = (split.starless - field.ground) / field.noise
    assert off[inner & (field.light > field.noise)].std() < left
    columns, rows = field.x.astype(int), field.y.astype(int)
    there = (columns > 12) & (columns < 564) & (rows > 12) & (rows < 436)
    columns, rows = columns[there], rows[there]
    peak, apart = field.peak[there] * UNIT, field.apart[there]
    found = split.stars[rows, columns] > 0.35 * field.light[rows, columns]
    loud = peak / field.noise[rows, columns]
    assert found[(loud > 8) & (loud < 15)].mean() >= 0.88
    assert found[(loud > 15) & (loud < 30)].mean() >= 0.96
    assert found[loud > 30].all()
    assert found[(loud > 8) & (apart > 1.8) & (apart < 3.2)].mean() >= 0.88
    none = field.light < 0.3 * UNIT
    nebula = (field.ground - field.ground.min())[none].sum()
    assert abs(split.stars[none].sum()) < 0.003 * nebula
    assert abs(split.residual) < 0.01


def test_star_layers_on_the_command_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, starry: tuple[Scene, np.ndarray, np.ndarray]
) -> None:
    source, out, layer = tmp_path / "o3.fits", tmp_path / "starless.fits", tmp_path / "stars.fits"
    write_fits(source, starry[1], Header(saturation=1.0))
    assert run(["clean", str(source), "--out", str(out), "--stars", str(layer), "--json"]) == 0
    found = json.loads(capsys.readouterr().out)["stars"]
    assert found["count"] > 90
    assert 0 < found["masked_fraction"] < 0.05
    starless = read_picture(out).data
    assert starless + read_picture(layer).data == pytest.approx(starry[1], abs=1e-6)
    again = tmp_path / "again.fits"
    assert (
        run(["clean", str(source), "--out", str(again), "--star-layer", str(layer), "--json"]) == 0
    )
    assert read_picture(again).data == pytest.approx(starless, abs=1e-6)
    capsys.readouterr()
    assert (
        run(
            [
                "clean",
                str(source),
                "--out",
                str(tmp_path / "x.fits"),
                "--stars",
                str(tmp_path / "y.fits"),
                "--star-layer",
                str(layer),
            ]
        )
        == 2
    )
    assert "only once" in capsys.readouterr().err


def test_full_stars_their_halos_and_stars_at_the_edge_are_split_too() -> None:
    loud = make_filaments(
        (428, 640),
        2.64,
        12,
        SceneRecipe(
            half_size_arcmin=(6.0, 4.5),
            star_count=700,
            beacons=((0.15, 0.2, 4.4), (0.85, 0.8, 5.0)),
        ),
    )
    edge = replace(
        loud,
        stars=StarTable(
            *(
                np.append(a, np.float32(v)).astype(np.float32)
                for a, v in zip(
                    (
                        loud.stars.x,
                        loud.stars.y,
                        loud.stars.mag,
                        loud.stars.temperature_k,
                        loud.stars.extinction,
                    ),
                    (2.0, 214.0, 9.5, 6000, 0.1),
                    strict=True,
                )
            )
        ),
    )
    optics = Aberrations(halo=0.004, halo_arcsec=70.0)
    stack = mono_stack(
        edge, RIGS["Ridge"], FILTERS["O3"], Sky(21.5), 80, 300.0, np.random.default_rng(4), optics
    )
    none = np.zeros(0, np.float32)
    truth = stack_of(
        replace(edge, stars=StarTable(none, none, none, none, none)), "Ridge", "O3", 200_000, 5
    )
    made = split_stars(Picture(stack, Header(saturation=1.0)))
    assert np.array_equal(made.starless + made.stars, stack)
    assert made.halos == 2
    sigma = float(1.4826 * np.median(np.abs(np.diff(stack[:60, 200:300], axis=1)))) / 2**0.5
    off = (made.starless - truth) / sigma
    y, x = np.mgrid[0:428, 0:640]
    for cx, cy in ((0.15 * 640, 0.2 * 428), (0.85 * 640, 0.8 * 428)):
        away = np.hypot(x - cx, y - cy)
        light = (stack - truth)[away < 24].sum() / sigma
        assert (
            abs(off[away < 24].sum()) < 0.01 * light
        )  # nothing of the star or its disc is left ...
        around = np.median(off[(away > 34) & (away < 44)])
        assert abs(np.median(off[(away > 8) & (away < 24)]) - around) < 0.4
        assert abs(around - np.median(off)) < 0.4  # ... and nothing is dug out around it
    at_edge = np.s_[204:224, 0:12]
    light = (stack - truth)[at_edge].sum() / sigma
    assert abs((off[at_edge] - np.median(off)).sum()) < 0.005 * light


@pytest.mark.parametrize("seed", [8, 10])
def test_a_full_stars_own_wings_leave_no_ring(seed: int) -> None:
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:360, 0:480].astype(np.float32)
    ground = (3 + 4 * np.sin(x / 90) * np.cos(y / 70)).astype(np.float32)
    plane = ground + rng.normal(0, 1, x.shape).astype(np.float32)
    places = rng.uniform((12, 12), (468, 348), (160, 2))
    light = np.exp(rng.uniform(np.log(30), np.log(3000), 160))
    stars = Shape.even(x.shape, 2.4, 3.5)
    draw_stars(plane, stars, stars.stars(places[:, 0], places[:, 1], light), 0.01)
    full = np.array([[120.3, 180.6], [350.8, 150.2]])
    # two rigs share these: a core, and wings that end where the field's go on
    for width, beta, share in ((2.1, 3.0, 0.7), (4.4, 6.0, 0.3)):
        loud = Shape.even(x.shape, width, beta)
        light = share * np.array([4e5, 1.5e5])
        draw_stars(plane, loud, loud.stars(full[:, 0], full[:, 1], light), 0.01)
    made = split_stars(Picture(np.minimum(plane, np.float32(30_000)), Header(saturation=30_000)))
    for cx, cy in full:
        away = np.rint(np.hypot(x - cx, y - cy))
        left = made.starless - ground
        rings = [float(np.median(left[away == r])) for r in range(6, 22)]
        # a ring of r px has a median good to 1.25 / sqrt(2 pi r) sigma: .2 at 6 px
        assert np.abs(rings).max() < 0.75


def test_a_tilted_fields_stars_leave_as_little_at_its_wide_side() -> None:
    scene = make_filaments(
        (428, 640), 1.8, 5, SceneRecipe(half_size_arcmin=(5.0, 3.5), star_count=1600)
    )
    stack = mono_stack(
        scene,
        RIGS["Ridge"],
        FILTERS["R"],
        Sky(21.0),
        60,
        60.0,
        np.random.default_rng(6),
        Aberrations(tilt=(0.3, 0.0)),
    )
    none = np.zeros(0, np.float32)
    truth = mono_stack(
        replace(scene, stars=StarTable(none, none, none, none, none)),
        RIGS["Ridge"],
        FILTERS["R"],
        Sky(21.0),
        200_000,
        60.0,
        np.random.default_rng(7),
    )
    made = split_stars(Picture(stack, Header(saturation=1.0)))
    left = made.starless - truth
    stars = scene.stars
    bright = [
        n for n in np.argsort(stars.mag)[6:120] if 14 < stars.x[n] < 626 and 14 < stars.y[n] < 414
    ]
    shares = {side: [] for side in ("narrow", "wide")}  # type: ignore[var-annotated]
    for n in bright:
        box = np.s_[
            round(float(stars.y[n])) - 7 : round(float(stars.y[n])) + 8,
            round(float(stars.x[n])) - 7 : round(float(stars.x[n])) + 8,
        ]
        shares["wide" if stars.x[n] > 320 else "narrow"].append(
            left[box].sum() / (stack - truth)[box].sum()
        )
    for found in shares.values():
        assert abs(np.median(found)) < 0.02


def test_stars_get_one_colour_each_and_no_rings() -> None:
    """Three layers of different seeing and gains: the colours of the stars come back, the same from
    core to skirt.
    """
    rng = np.random.default_rng(3)
    shape, count = (500, 700), 260
    x, y = rng.uniform(14, 686, count), rng.uniform(14, 486, count)
    flux = rng.pareto(1.3, count) * 60 + 60
    warm = rng.uniform(-0.5, 0.5, count)  # redder or bluer than most
    true = np.stack([flux * np.exp(warm), flux, flux * np.exp(-warm)])
    gains, widths = (0.5, 1.0, 0.8), (3.6, 3.0, 2.6)
    zero = np.zeros(count, np.float32)
    table = StarTable(x.astype(np.float32), y.astype(np.float32), zero, zero, zero)
    layers = []
    for light, gain, width in zip(true, gains, widths, strict=True):
        plane = np.zeros(shape, np.float32)
        render_stars(plane, table, light * gain, width)
        layers.append((plane + rng.normal(0, 0.02, shape)).astype(np.float32))
    order = np.argsort(flux)[::-1]
    stars = Stars(
        count, 2.6, 1.3, 0.0, 0, 3.2, tuple(x[order]), tuple(y[order]), tuple(flux[order])
    )
    found = colour_stars(layers, stars, widths, (0.02, 0.02, 0.02), (None, None, None))
    assert found.balance[0] / found.balance[1] == pytest.approx(gains[1] / gains[0], rel=0.12)
    assert found.used > 100
    for n in order[:40]:
        if np.sort(np.hypot(x - x[n], y - y[n]))[1] < 14:
            continue
        at = round(float(y[n])), round(float(x[n]))
        core = found.planes[:, at[0], at[1]]
        assert np.log(core[0] / core[2]) == pytest.approx(2 * warm[n], abs=0.3)
        skirt = found.planes[:, at[0], at[1] + 4]
        assert np.log(skirt[0] / skirt[2]) == pytest.approx(
            np.log(core[0] / core[2]), abs=0.12
        )  # no ring
    with pytest.raises(NotEnoughData, match="too few stars to tell their colours"):
        colour_stars(
            layers, Stars(0, None, None, None, 0), widths, (9.0, 9.0, 9.0), (None, None, None)
        )

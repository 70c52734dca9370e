"""Lines out of colour stacks: leaks, noise, scale, refusals. Truth from the simulator."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.extract import ColourStack, Response, extract_lines, load_response
from bichromus.core.extract.leaks import measure_leaks
from bichromus.core.extract.lines import table_leaks, third_line, unmix_stack
from bichromus.core.extract.mosaic import demosaic
from bichromus.core.extract.null import plane_noise
from bichromus.core.extract.scale import line_scale
from bichromus.core.extract.unmix import apply_unmixing, unmixing
from bichromus.core.measure import find_stars
from bichromus.core.measure.centroids import centroids
from bichromus.core.measure.noise import quiet_blocks, sigma_in
from bichromus.core.measure.run import bright_mask
from bichromus.core.model.errors import (
    NotEnoughData,
    NotLinear,
    ResponseError,
    ShapeMismatch,
    UnsupportedData,
)
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.numerics.robust import clipped_sigma
from bichromus.core.numerics.smoothing import gaussian
from bichromus.core.numerics.starlet import WHITE, details
from bichromus.core.simulate.camera import Sky, band_rates, expose
from bichromus.core.simulate.demo import simulate_stack
from bichromus.core.simulate.scene import Scene, SceneRecipe
from filaments import make_filaments
from sky import stack_of
from strangers_colour import colour_field

GENERIC = load_response("generic")


def shifted(share: float) -> Response:
    """The generic response with every leak term changed by ``share``."""
    table = {p: dict(row) for p, row in GENERIC.table.items()}
    for line, main in (("Ha", ("R",)), ("O3", ("G", "B")), ("S2", ("R",))):
        for plane in "RGB":
            if plane not in main:
                table[plane][line] *= 1 + share
    return Response("shifted", table)


def pure(scene: Scene, lines: tuple[str, ...]) -> np.ndarray:
    """A noise-free colour stack of the scene's nebula."""
    return np.stack(
        [sum(np.float32(GENERIC.table[p][n]) * scene.lines[n] for n in lines) for p in "RGB"]
    )


def leak(found: np.ndarray, own: np.ndarray, other: np.ndarray) -> float:
    """How much of ``other`` stands in what should be ``own`` alone, by regression on both."""
    design = np.stack([own.ravel(), other.ravel(), np.ones(own.size)], 1)
    return float(np.linalg.lstsq(design, found.ravel(), rcond=None)[0][1])


@pytest.mark.parametrize(("share", "limit"), [(0.0, 0.003), (0.2, 0.02), (-0.2, 0.02)])
def test_what_one_line_leaves_in_another(scene: Scene, share: float, limit: float) -> None:
    for lines in (("Ha", "O3"), ("O3", "S2")):
        stack = pure(scene, lines)
        weights = unmixing(shifted(share).matrix(lines), np.array([1.0, 0.8, 0.9])).weights
        found = apply_unmixing(stack, weights)
        for i, j in ((0, 1), (1, 0)):
            assert abs(leak(found[i], scene.lines[lines[i]], scene.lines[lines[j]])) <= limit
        if share == 0:
            for i, name in enumerate(lines):
                np.testing.assert_allclose(found[i], scene.lines[name], rtol=0.005, atol=1e-3)


@pytest.mark.parametrize("seed", range(4))
def test_generalised_least_squares_is_never_noisier_than_plain_least_squares(seed: int) -> None:
    rng = np.random.default_rng(seed)
    sigma = rng.uniform(0.3, 3, 3)
    matrix = GENERIC.matrix(("Ha", "O3"))
    plain = np.linalg.pinv(matrix)
    best = unmixing(matrix, sigma)
    np.testing.assert_allclose(best.weights @ matrix, np.eye(2), atol=1e-12)
    np.testing.assert_allclose(plain @ matrix, np.eye(2), atol=1e-12)
    assert (best.sigma <= np.sqrt((plain**2 * sigma**2).sum(1)) + 1e-12).all()


def colour(
    scene: Scene, band: str, seed: int, transparency: float = 1.0, subs: int = 60
) -> ColourStack:
    data = stack_of(scene, "Balcony", band, subs, seed, transparency=transparency)
    header = Header(saturation=1.0, total_s=subs * 300.0)
    return ColourStack(Picture(data, header), tuple(band.split("+")))


@pytest.fixture(scope="module")
def pair(scene: Scene) -> tuple[ColourStack, ColourStack]:
    return colour(scene, "Ha+O3", 1), colour(scene, "O3+S2", 2, 0.8)


def test_two_stacks_give_one_better_o3(scene: Scene, pair: tuple[ColourStack, ColourStack]) -> None:
    both = extract_lines(pair, GENERIC)
    alone = [extract_lines([s], GENERIC).lines["O3"] for s in pair]
    assert list(both.lines) == ["Ha", "O3", "S2"]
    assert both.o3_scale == pytest.approx(0.8, rel=0.015)
    first, second = (1 / a.sigma_eff for a in alone)
    together = 1 / both.lines["O3"].sigma_eff
    assert together >= 0.98 * np.hypot(first, second * 0.8)
    assert both.lines["O3"].snr_gain > 1.2
    # the noise that is promised is the noise that is there: from the difference to a second pair of
    # stacks
    again = extract_lines((colour(scene, "Ha+O3", 11), colour(scene, "O3+S2", 12, 0.8)), GENERIC)
    for name in ("Ha", "O3", "S2"):
        apart = ((both.lines[name].plane - again.lines[name].plane) / np.sqrt(2)).astype(np.float32)
        true = clipped_sigma(details(apart, 4)[3]) / WHITE[3]
        assert both.lines[name].sigma_eff == pytest.approx(true, rel=0.10), name
    rest = both.lines["O3"].plane - np.median(both.lines["O3"].plane)
    # the nebula of the merged map is the truth's: slope of the smooth parts
    truth = scene.lines["O3"]
    strong = truth > np.quantile(truth, 0.9)
    ratio = np.median(rest[strong] / truth[strong])
    single = alone[0].plane - np.median(alone[0].plane)
    assert ratio == pytest.approx(np.median(single[strong] / truth[strong]), rel=0.02)


WAYS = (
    ("bilinear", False, False, 1.0),
    ("bilinear", False, False, 12.0),  # Ha far brighter than O3
    ("cross-colour", True, True, 1.0),
    ("superpixel", False, False, 1.0),
    ("drizzled", True, False, 1.0),
)


@pytest.mark.parametrize(("process", "dithered", "warped", "bright"), WAYS)
def test_noise_and_lines_of_stacks_whose_making_nobody_told(
    process: str, dithered: bool, warped: bool, bright: float
) -> None:
    """Another program's stacks of nebula from edge to edge, through a response that is not the
    table's: their planes' noise, and O3 as good as these data can give it.
    """
    shape = (960, 1280) if process == "superpixel" else (576, 768)
    made = colour_field(8, process, dithered, warped, shape, 6, bright=bright, second=0.4 / bright)
    matrix = GENERIC.matrix(("Ha", "O3"))
    avoid = bright_mask(made.stack[1], find_stars(made.stack[1]), None)
    found = plane_noise(made.stack, matrix, avoid)
    assert found.method == "null"
    dark, _ = quiet_blocks(made.stack.mean(0), ~avoid, 0.25)
    large = [details(p, 4)[3] for p in made.noise]
    true = np.array([sigma_in(p, dark, ~avoid) / WHITE[3] for p in large])
    np.testing.assert_allclose(found.sigma, true, rtol=0.12)
    weights = unmixing(matrix, found.sigma).weights[1]
    best = unmixing(matrix, true).weights[1]
    noise = [sigma_in(np.tensordot(w, np.stack(large), 1), dark, ~avoid) for w in (weights, best)]
    assert noise[0] <= noise[1] / 0.97
    line = unmix_stack(ColourStack(Picture(made.stack), ("Ha", "O3")), GENERIC)
    assert line.sigma["O3"] == pytest.approx(noise[0] / WHITE[3], rel=0.16)


def test_noise_of_what_has_no_null_or_hardly_any_data_is_told_or_refused() -> None:
    made = colour_field(8, "bilinear", False, shape=(320, 448), subs=4)
    avoid = np.zeros(made.stack.shape[1:], np.bool_)
    whole = plane_noise(made.stack, GENERIC.matrix(("Ha", "O3")), avoid).sigma
    wrong = plane_noise(made.stack, GENERIC.matrix(("Ha",)), avoid)  # O3 is in it too
    assert wrong.method == "kappa"
    assert "another line" in wrong.warnings[0]
    assert wrong.sigma[1:] == pytest.approx(whole[1:], rel=0.5)
    alike = np.stack([made.stack[0]] * 3)
    assert plane_noise(alike, GENERIC.matrix(("Ha", "O3")), avoid).method == "kappa"
    for small in (made.stack[:, :60, :70], made.stack[:, :24, :300]):
        found = unmix_stack(ColourStack(Picture(small.copy()), ("Ha", "O3")), GENERIC)
        assert found.sigma["O3"] > 0
        assert not found.leaks.values


def test_the_scale_refuses_where_there_is_too_little_in_common(scene: Scene) -> None:
    rng = np.random.default_rng(3)
    noise = [rng.standard_normal(scene.shape, dtype=np.float32) for _ in range(2)]
    none = np.zeros(scene.shape, bool)
    with pytest.raises(NotEnoughData, match="too little nebula"):
        line_scale(noise[0], noise[1], none, (1.0, 1.0))
    with pytest.raises(NotEnoughData, match=r"correlation|too little"):
        line_scale(
            scene.lines["Ha"] * 9 + noise[0],
            scene.lines["S2"][::-1] * 90 + noise[1],
            none,
            (1.0, 1.0),
        )


def test_a_second_stack_that_shows_something_else_is_left_out_with_a_warning(
    pair: tuple[ColourStack, ColourStack],
) -> None:
    other = replace(
        pair[1], picture=replace(pair[1].picture, data=pair[1].picture.data[:, ::-1].copy())
    )
    found = extract_lines([pair[0], other], GENERIC)
    assert found.o3_scale is None
    assert found.lines["O3"].stacks == (0,)
    assert any("left out" in w for w in found.warnings)


def test_what_cannot_be_extracted_is_refused_with_the_reason(pair: tuple[ColourStack, ...]) -> None:
    good = pair[0].picture
    stretched = np.arcsinh(
        2000 * np.clip(good.data - np.quantile(good.data, 0.02), 0, None)
    ) / np.arcsinh(2000)
    cases = [
        (replace(good, data=stretched.astype(np.float32)), NotLinear, "already stretched"),
        (
            replace(good, data=good.data[0], header=replace(good.header, bayer="RGBG")),
            UnsupportedData,
            "pattern of this mosaic",
        ),
        (replace(good, data=good.data[0]), UnsupportedData, "one plane only"),
        (replace(good, data=np.full_like(good.data, 0.5)), UnsupportedData, "no noise"),
    ]
    for picture, kind, words in cases:
        with pytest.raises(kind, match=words):
            extract_lines([ColourStack(picture, ("Ha", "O3"))], GENERIC)
    with pytest.raises(ShapeMismatch):
        extract_lines(
            [pair[0], ColourStack(replace(good, data=good.data[:, 2:].copy()), ("O3", "S2"))],
            GENERIC,
        )
    with pytest.raises(ResponseError, match="cannot separate"):
        GENERIC.matrix(("Ha", "S2"))
    with pytest.raises(UnsupportedData):
        extract_lines([], GENERIC)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "header or a row"),
        ("plane,Ha\nR,1\nG,1\n", "header or a row"),
        ("plane,Ha,x\nR,1,2\nG,1,2\nB,1,2\n", "No channel is called"),
        ("plane,Ha,R\nR,1,2\nG,1,2\nB,1,2\n", "not lines"),
        ("plane,Ha\nR,1\nG,one\nB,1\n", "no number"),
        ("plane,Ha\nR,1\nG,-1\nB,1\n", "negative"),
        ("plane,Ha\nR,1\nG,1\nG,1\n", "plane is missing"),
        ("plane,Ha\nR,1,3\nG,1\nB,1\n", "does not fit"),
    ],
)
def test_a_response_table_that_is_wrong_is_refused_in_words(
    tmp_path: Path, text: str, words: str
) -> None:
    path = tmp_path / "curve.csv"
    path.write_text(text)
    with pytest.raises(ResponseError, match=words):
        load_response(path)


def test_a_response_of_ones_own(tmp_path: Path) -> None:
    path = tmp_path / "mine.csv"
    path.write_text("# measured\nplane, O3, Ha\nB,.7,.05\nR,.06,.8\ng,.9,.1\n")
    own = load_response(path)
    np.testing.assert_allclose(own.matrix(("Ha", "O3")), [[0.8, 0.06], [0.1, 0.9], [0.05, 0.7]])
    with pytest.raises(ResponseError, match="does not hold S2"):
        own.matrix(("S2",))
    with pytest.raises(ResponseError, match="cannot be read"):
        load_response(tmp_path / "none.csv")


# --- mosaics ---


def mosaic(
    scene: Scene, seed: int, pattern: str = "RGGB", band: str = "Ha+O3", subs: int = 100
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """A mosaic stack of Balcony, and the lines' light that it should yield."""
    rig, sky = RIGS["Balcony"], Sky(20.5)
    rates = band_rates(scene, rig, FILTERS[band], sky)
    rng = np.random.default_rng(seed)
    out = np.zeros(scene.shape, np.float32)
    for dy in (0, 1):
        for dx in (0, 1):
            light = sum(
                np.float32(GENERIC.table[pattern[2 * dy + dx]][n])
                * (rates[n][0] + np.float32(rates[n][1]))
                for n in rates
            )
            out[dy::2, dx::2] = expose(
                np.asarray(light, np.float32)[dy::2, dx::2], rig, subs, 300.0, rng
            )
    return out, {n: rates[n][0] * np.float32(300 / rig.full_well_e) for n in rates}


@pytest.fixture(scope="module")
def fine() -> Scene:
    """Sampled so that a star spans three pixels, as a mosaic needs."""
    return make_filaments(
        (420, 600), 1.8, 31, SceneRecipe(half_size_arcmin=(6.5, 4.6), star_count=1500)
    )


@pytest.mark.parametrize("pattern", ["RGGB", "GRBG", "BGGR", "GBRG"])
def test_lines_of_a_mosaic_come_out_sharp_and_without_leaks(fine: Scene, pattern: str) -> None:
    data, truth = mosaic(fine, 1, pattern)
    picture = Picture(data, Header(bayer=pattern, saturation=1.0))
    found = unmix_stack(ColourStack(picture, ("Ha", "O3")), GENERIC)
    clear = ~found.stars
    smooth = {n: gaussian(t, 5.0) for n, t in truth.items()}
    for own, other in (("Ha", "O3"), ("O3", "Ha")):
        design = np.stack([smooth[own][clear], smooth[other][clear], np.ones(int(clear.sum()))], 1)
        gain, leaked, _ = np.linalg.lstsq(
            design, gaussian(found.lines[own], 5.0)[clear], rcond=None
        )[0]
        assert gain == pytest.approx(1, abs=0.005)
        assert abs(leaked) < 0.003
        assert found.lines[own].shape == fine.shape
    # in their own phase: stars as wide as they fell on the sensor, and where they fell
    width = find_stars(found.lines["O3"])
    assert 0.93 < (width.fwhm_px or 0) / (RIGS["Balcony"].fwhm_arcsec / 1.8) < 1.03
    stars = fine.stars
    bright = np.argsort(stars.mag)[4:24]
    inside = [n for n in bright if 12 < stars.x[n] < 588 and 12 < stars.y[n] < 408]
    cx, cy, _ = centroids(found.lines["O3"], stars.x[inside], stars.y[inside], 3.2)
    off = np.hypot(cx - stars.x[inside], cy - stars.y[inside])
    assert np.nanmedian(off) < 0.1


def test_the_noise_of_a_mosaics_lines_is_what_two_stacks_differ_by(fine: Scene) -> None:
    one, two = (
        unmix_stack(
            ColourStack(Picture(mosaic(fine, s)[0], Header(bayer="RGGB")), ("Ha", "O3")), GENERIC
        )
        for s in (1, 2)
    )
    for name in ("Ha", "O3"):
        apart = np.where(one.stars | two.stars, np.nan, one.lines[name] - two.lines[name])[
            :416, :600
        ]
        blocks = apart.reshape(52, 8, 75, 8).swapaxes(1, 2).reshape(-1, 64)
        bins = blocks[np.isfinite(blocks).all(1)].mean(1) * 8 / np.sqrt(2)
        assert 1.4826 * np.median(np.abs(bins - np.median(bins))) == pytest.approx(
            one.sigma[name], rel=0.15
        )


def test_a_wrong_pattern_is_told(fine: Scene) -> None:
    data, _ = mosaic(fine, 3)
    for pattern, words in (
        ("GRBG", "does not fit this mosaic"),
        ("XYZW", "is not known"),
        (None, "one plane only"),
    ):
        with pytest.raises(UnsupportedData, match=words):
            unmix_stack(ColourStack(Picture(data, Header(bayer=pattern)), ("Ha", "O3")), GENERIC)
    planes = demosaic(Picture(data, Header(bayer="RGGB")))
    assert planes.shape == (3, *fine.shape)


# --- leaks that the data tell ---


def shot(
    scene: Scene, table: Response, seed: int, lines: tuple[str, ...] = ("Ha", "O3")
) -> Picture:
    data = simulate_stack(
        scene,
        RIGS["Balcony"],
        "+".join(lines),
        Sky(20.5),
        120,
        300.0,
        table.table,
        np.random.default_rng(seed),
    )
    return Picture(data, Header(saturation=1.0))


def test_leaks_are_measured_where_one_line_shines_alone() -> None:
    scene = make_filaments((700, 1000), 2.64, 31, SceneRecipe(half_size_arcmin=(16, 11)))
    table = GENERIC.table
    for share in (0.0, -0.5):  # a camera that leaks half of what the table says
        true = shifted(share)
        found = unmix_stack(ColourStack(shot(scene, true, 5), ("Ha", "O3")), GENERIC).leaks
        for name, ratio in (
            ("G/R of Ha", true.table["G"]["Ha"] / true.table["R"]["Ha"]),
            ("B/R of Ha", true.table["B"]["Ha"] / true.table["R"]["Ha"]),
        ):
            assert 0.9 * ratio < found.values[name] < 1.95 * ratio  # an upper bound, and a near one
        loud = found.disagreement(table_leaks(GENERIC, ("Ha", "O3")))
        assert (loud is not None) == (share < 0)
        used = found.applied(GENERIC)
        bound = found.values["G/R of Ha"] * table["R"]["Ha"]
        assert used.table["G"]["Ha"] == pytest.approx(min(bound, table["G"]["Ha"]))
        assert GENERIC.table is table


def test_leaks_that_the_data_cannot_tell_are_refused() -> None:
    scene = make_filaments((700, 1000), 2.64, 31, SceneRecipe(half_size_arcmin=(16, 11)))
    glow = {**scene.lines, "O3": scene.lines["Ha"] * np.float32(0.4)}
    follows = replace(scene, lines=glow)
    found = unmix_stack(ColourStack(shot(follows, GENERIC, 6), ("Ha", "O3")), GENERIC).leaks
    assert found.values == {}
    assert any("follows it everywhere" in why for why in found.refused.values())
    dark = replace(scene, lines={**scene.lines, "O3": scene.lines["O3"] * np.float32(0)})
    assert (
        "R/G of O3"
        in unmix_stack(ColourStack(shot(dark, GENERIC, 7), ("Ha", "O3")), GENERIC).leaks.refused
    )
    with pytest.raises(NotEnoughData, match="one red and one green line"):
        measure_leaks(
            np.zeros((3, 64, 64), np.float32), ("Ha",), np.ones(3), np.zeros((64, 64), bool)
        )


def test_three_lines_of_one_filter_are_told_apart(scene: Scene) -> None:
    rng = np.random.default_rng(1)
    table = {p: dict(row) for p, row in GENERIC.table.items()}
    table["B"]["Hb"], table["G"]["Hb"] = (
        0.9,
        0.3,
    )  # a camera whose blue sees the shorter line much better
    wide = Response("wide", table)
    mixed = np.stack(
        [
            sum(np.float32(wide.table[p][n]) * scene.lines[n] for n in ("Ha", "O3", "Hb"))
            for p in "RGB"
        ]
    )
    noisy = (mixed / mixed.max() * 0.2 + 0.1 + rng.normal(0, 2e-5, mixed.shape)).astype(np.float32)
    found = extract_lines([ColourStack(Picture(noisy, Header()), ("Ha", "O3", "Hb"))], wide)
    assert set(found.lines) == {"Ha", "O3", "Hb"}
    for name in ("Ha", "O3", "Hb"):
        seen = gaussian(found.lines[name].plane, 3.0)
        assert np.corrcoef(seen.ravel(), gaussian(scene.lines[name], 3.0).ravel())[0, 1] > 0.98


def test_a_third_line_that_is_hardly_passed_costs_another_and_that_is_said() -> None:
    sigma = np.array([1.0, 0.7, 1.0])
    lines = ("Ha", "O3", "Hb")
    said = " ".join(third_line(lines, GENERIC.matrix(lines), sigma))
    share = unmixing(GENERIC.matrix(lines[:2]), sigma).sigma[1]
    share /= unmixing(GENERIC.matrix(lines), sigma).sigma[1]
    assert f"telling Hb apart leaves O3 {100 * share:.0f} % of its SNR" in said
    assert "say that it holds Ha+O3" in said
    assert "leaves Ha" not in said
    assert third_line(lines[:2], GENERIC.matrix(lines[:2]), sigma) == []

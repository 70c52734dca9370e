"""Curves, cores, masks and how the picture is laid: what is seen in a tile is what is written."""

from __future__ import annotations

from functools import partial

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.blend.compose import compose
from bichromus.core.blend.engine import Blender
from bichromus.core.blend.inputs import inputs_of, soft_key
from bichromus.core.blend.mask_words import mask_words
from bichromus.core.blend.masks import apply_mask, area_plane, mask_weight, within
from bichromus.core.blend.noise import predict_noise
from bichromus.core.blend.render import Renderer
from bichromus.core.blend.sight import around, grid_step
from bichromus.core.blend.sources import RowSource
from bichromus.core.blend.stretch import Curve
from bichromus.core.blend.tone import Cores, LightnessCurve, open_cores
from bichromus.core.model.errors import InputError
from bichromus.core.model.mask import Mask, Range, Stroke
from bichromus.core.model.measures import Stars, Surface
from bichromus.core.model.recipe import BlendFigures, ChannelFigures, Recipe
from bichromus.core.model.settings import BlendSettings, Stretch, ToneSettings
from bichromus.core.numerics.oklab import decode, to_oklab
from bichromus.core.numerics.placement import north_up, placed
from bichromus.core.numerics.sampling import View, sample
from bichromus.core.numerics.smoothing import gaussian

SHAPE = (150, 210)
KINDS = ("asinh", "rational", "bias", "power")


@pytest.fixture(scope="module")
def planes() -> dict[str, np.ndarray]:
    """Smooth light with a bright core, and a little noise."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[: SHAPE[0], : SHAPE[1]].astype(np.float32)
    core = 60 * np.exp(-((x - 120) ** 2 + (y - 70) ** 2) / 300)
    found = {}
    for number, name in enumerate("RGB"):
        blobs = gaussian(rng.standard_normal(SHAPE).astype(np.float32), 9.0) * 25
        light = np.maximum(blobs + 0.5, 0) + core
        ripple = 1 + 0.1 * np.sin(x / 2 + number)
        found[name] = (light * ripple + rng.normal(0, 0.05, SHAPE)).astype(np.float32)
    return found


def recipe(**changes: object) -> Recipe:
    figures = ChannelFigures(shape=SHAPE, signal=1.0, sigma_px=0.05, white=60.0, starless=True)
    asked = {"mapping": "rgb", "balance_auto": False, "balance": 0.0, **changes}
    return compose(
        BlendSettings.model_validate(asked), BlendFigures(channels=dict.fromkeys("RGB", figures))
    )


def rows(plane: np.ndarray, y0: int, y1: int) -> np.ndarray:
    return plane[y0:y1]


def renderer(planes: dict[str, np.ndarray]) -> Renderer:
    flat = Surface(0.0, width=SHAPE[1], height=SHAPE[0])
    none = Stars(0, None, None, None, 0)
    sources = {n: RowSource(partial(rows, p), flat, lambda _p: none, n) for n, p in planes.items()}
    return Renderer(sources, SHAPE, sources)


# --- curves ---


@settings(max_examples=80)
@given(
    st.sampled_from(KINDS),
    st.floats(0.05, 0.25),
    st.floats(0.4, 0.69),
    st.floats(1.5, 300),
    st.floats(0.001, 0.02),
)
def test_every_curve_lands_where_it_promises(
    kind: str, background: float, signal: float, white: float, noise: float
) -> None:
    stretch = Stretch.model_validate(
        {"kind": kind, "background": background, "signal": signal, "shoulder": 0.7}
    )
    curve = Curve(stretch, white, noise)
    f = curve(np.array([[0.0, 1.0, white]], np.float32))[0]
    assert f[0] == pytest.approx(background, abs=1e-6)
    assert f[1] == pytest.approx(signal, abs=1e-5)
    assert f[2] <= 1 + 2e-5
    steps = curve(np.linspace(-1, white, 400, dtype=np.float32)[None])[0]
    assert (np.diff(steps) > -1e-6).all()
    if kind == "rational":
        room = background / ((signal - background) * stretch.black * noise)
        if room > 1.05:
            at_black = curve(np.array([[-stretch.black * noise]], np.float32))[0, 0]
            assert at_black == pytest.approx(0, abs=1e-5)  # exact black


def test_one_factor_for_all_keeps_hues_of_bright_parts(planes: dict[str, np.ndarray]) -> None:
    bright = {n: np.full((4, 4), v, np.float32) for n, v in (("R", 30.0), ("G", 10.0), ("B", 3.0))}

    def spread(common: float) -> float:
        made = recipe(stretch={"common": common}, colour={"limit_green": 0.0})
        blender = Blender(made)
        code = blender.render({k: bright[k.name] for k in blender.inputs})
        return float(np.ptp(code[:, 0, 0]))

    assert spread(0.5) > 1.3 * spread(0.0)
    assert planes


def test_a_curve_through_points_goes_through_them_and_never_turns_back() -> None:
    settings_ = ToneSettings(points=((0.2, 0.1), (0.5, 0.62), (0.8, 0.7)))
    curve = LightnessCurve(settings_)
    at = curve(np.array([0.0, 0.2, 0.5, 0.8, 1.0], np.float32))
    np.testing.assert_allclose(at, [0, 0.1, 0.62, 0.7, 1], atol=2e-3)
    assert (np.diff(curve(np.linspace(0, 1, 999, dtype=np.float32))) >= 0).all()
    lab = np.array([[0.5], [0.1], [-0.05]], np.float32)
    curve.apply(lab)
    assert lab[1, 0] / lab[2, 0] == pytest.approx(-2)  # hue stays, colour goes along
    assert lab[1, 0] == pytest.approx(0.1 * 0.62 / 0.5, rel=0.01)
    for points in (((0.5, 0.4), (0.5, 0.6)), ((0.3, 0.6), (0.6, 0.5)), ((0.0, 0.2),)):
        with pytest.raises(ValueError, match="must rise"):
            ToneSettings(points=points)


def test_a_burnt_core_opens_and_the_rest_stays(planes: dict[str, np.ndarray]) -> None:
    driver = renderer(planes)
    view = View(0, 0, 1, SHAPE[1], SHAPE[0])
    closed = to_oklab(decode(driver.code(recipe(), view).reshape(3, -1)))[0].reshape(SHAPE)
    made = recipe(tone={"cores": 0.5, "cores_px": 10.0})
    opened = to_oklab(decode(driver.code(made, view).reshape(3, -1)))[0].reshape(SHAPE)
    core, away = np.s_[60:80, 110:130], np.s_[:, :60]
    assert opened[core].mean() < closed[core].mean() - 0.05
    # the same ripple takes a larger share of a core's light, and far from it nothing has changed
    fine = [np.std((p - gaussian(p, 4.0))[core]) / p[core].mean() for p in (opened, closed)]
    assert fine[0] > fine[1]
    assert np.abs(opened[away] - closed[away]).max() < 0.02
    lab = np.stack([np.linspace(0.2, 0.9, 50), np.zeros(50), np.zeros(50)]).astype(np.float32)
    open_cores(lab, np.full(50, 0.85, np.float32), 0.6, Cores(0.5, 0.8))
    assert (np.diff(lab[0]) >= 0).all()  # monotone in lightness at one blur


# --- masks ---


def test_a_mask_takes_what_its_words_say() -> None:
    lab = np.array(
        [
            [0.3, 0.7, 0.7, 0.7],
            [0.0, 0.1 * np.cos(4.36), 0.1, 0.0],
            [0.0, 0.1 * np.sin(4.36), 0.0, 0.0],
        ],
        np.float32,
    )
    blue = mask_weight(Mask(hue=(250.0, 30.0, 10.0)), None, lab, None, 4)
    np.testing.assert_allclose(blue, [0, 1, 0, 0], atol=0.01)
    bright = mask_weight(Mask(light=Range(low=0.5, soft=0.1)), None, lab, None, 4)
    np.testing.assert_allclose(bright, [0, 1, 1, 1], atol=0.01)
    both = Mask(hue=(250.0, 30.0, 10.0), light=Range(low=0.8, soft=0.1))
    assert mask_weight(both, None, lab, None, 4).max() < 0.01
    assert mask_weight(both.model_copy(update={"invert": True}), None, lab, None, 4).min() > 0.99
    np.testing.assert_array_equal(mask_weight(Mask(), None, lab, None, 4), 1)
    level = np.array([0.0, 5.0, 10.0, 50.0], np.float32)
    part = Mask(channel="Ha", level=Range(low=8, high=20, soft=2))
    np.testing.assert_allclose(mask_weight(part, level, None, None, 4), [0, 0, 1, 0], atol=0.01)
    assert within(np.array([8.0], np.float32), Range(low=8, soft=2))[0] == pytest.approx(0.5)
    words = Mask(hue=(265.0, 30.0, 10.0), lightness=0.3, chroma=0.5)
    assert mask_words(words) == "blue part, brighter, more colour"
    assert mask_words(part) == "where Ha has 8 to 20 sigma, nothing yet"
    assert mask_words(Mask(area=(Stroke(x=1, y=1, radius=2),), invert=True, contrast=1)) == (
        "all but the part drawn, sharper"
    )


def test_effects_of_a_mask_keep_to_it() -> None:
    rng = np.random.default_rng(2)
    lab = np.stack([rng.uniform(0.2, 0.9, 400), *rng.uniform(-0.1, 0.1, (2, 400))])
    lab = lab.astype(np.float32)
    weight = (np.arange(400) < 200).astype(np.float32)
    for mask, channel in (
        (Mask(lightness=0.4), 0),
        (Mask(chroma=0.8), 1),
        (Mask(turn=30), 1),
        (Mask(contrast=1.0), 0),
    ):
        new = lab.copy()
        apply_mask(new, mask, weight, 0.2, np.full(400, 0.5, np.float32))
        np.testing.assert_array_equal(new[:, 200:], lab[:, 200:])
        assert np.abs(new[channel, :200] - lab[channel, :200]).max() > 0.01
    turned = lab.copy()
    apply_mask(turned, Mask(turn=40), np.ones(400, np.float32), 0.2, None)
    np.testing.assert_allclose(np.hypot(*turned[1:]), np.hypot(*lab[1:]), atol=1e-6)


def test_an_area_is_drawn_rubbed_out_and_feathered() -> None:
    strokes = (
        Stroke(x=50, y=40, radius=20),
        Stroke(x=50, y=40, radius=6, add=False),
        Stroke(x=120, y=40, radius=4),
    )
    sharp = area_plane((100, 200), strokes, 0.0)
    assert sharp.shape == (50, 100)
    assert sharp[20, 25] == 0
    assert sharp[20, 30] == 1
    assert sharp[20, 60] == 1
    soft = area_plane((100, 200), strokes, 24.0)
    assert 0 < soft[20, 36] < 1
    assert soft.sum() == pytest.approx(sharp.sum(), rel=0.05)


MASKED = {
    "masks": [
        {"hue": [20, 120, 40], "lightness": 0.4, "chroma": 0.5},
        {"light": {"low": 0.5, "soft": 0.2}, "contrast": 1.0, "contrast_px": 6.0},
        {"area": [{"x": 60, "y": 60, "radius": 30}], "gain_of": "R", "gain": 1.6},
        {"channel": "G", "level": {"low": 20, "soft": 10}, "turn": 20},
    ],
    "tone": {"points": [(0.3, 0.25)], "cores": 0.3, "cores_px": 16.0},
}


def test_a_tile_of_everything_is_a_part_of_the_whole(planes: dict[str, np.ndarray]) -> None:
    driver = renderer(planes)
    made = recipe(**MASKED)
    whole = driver.code(made, View(0, 0, 1, SHAPE[1], SHAPE[0]))
    tile = driver.code(made, View(37, 51, 1, 80, 60))
    np.testing.assert_allclose(tile, whole[:, 51:111, 37:117], atol=1.5 / 255)
    bands = list(driver.bands(made, SHAPE, "uint8"))
    written = np.moveaxis(np.concatenate(bands).astype(np.float32) / 255, -1, 0)
    assert np.abs(written - whole).max() <= 1.6 / 255
    assert soft_key(16.0) in inputs_of(made)
    plain = driver.code(recipe(), View(0, 0, 1, SHAPE[1], SHAPE[0]))
    assert np.abs(whole - plain).max() > 0.1
    off = [{**m, "on": False} for m in MASKED["masks"]]  # type: ignore[attr-defined]
    np.testing.assert_array_equal(
        driver.code(recipe(masks=off), View(0, 0, 1, 50, 40)),
        driver.code(recipe(), View(0, 0, 1, 50, 40)),
    )
    assert predict_noise(made).lightness == pytest.approx(
        predict_noise(recipe(tone={"points": [(0.3, 0.25)]})).lightness, rel=0.3
    )


def test_what_a_mask_takes_can_be_seen(planes: dict[str, np.ndarray]) -> None:
    driver = renderer(planes)
    mask = Mask.model_validate({"area": [{"x": 60, "y": 60, "radius": 20}], "feather": 0})
    weight = driver.weight(recipe(), mask, View(0, 0, 1, SHAPE[1], SHAPE[0]))
    assert weight[60, 60] == pytest.approx(1, abs=0.01)
    assert weight[60, 100] == 0
    assert weight.sum() == pytest.approx(np.pi * 400, rel=0.13)
    more = mask.model_copy(update={"area": (*mask.area, Stroke(x=120, y=60, radius=20))})
    assert driver.weight(recipe(), more, View(0, 0, 1, SHAPE[1], SHAPE[0]))[60, 120] == 1


@given(st.floats(0, 500), st.floats(0, 500), st.floats(0.3, 6), st.floats(2, 60))
def test_the_grid_about_a_view_does_not_depend_on_where_it_begins(
    x: float, y: float, step: float, px: float
) -> None:
    view = View(x, y, step, 40, 30)
    near, grid = around(view, px, grid_step(view, px))
    assert grid.x0 % grid.step == pytest.approx(0, abs=1e-6) or (
        grid.x0 % grid.step == pytest.approx(grid.step, abs=1e-6)
    )
    assert grid.x0 <= x - 3 * px
    assert grid.x0 + grid.width * grid.step >= x + view.width * step + 3 * px
    assert grid.x0 + near.x0 * grid.step == pytest.approx(x, abs=1e-6)


# --- how the picture is laid ---


def corner_picture() -> dict[str, np.ndarray]:
    """Each quarter of the grid has a level of its own."""
    plane = np.full(SHAPE, 0.2, np.float32)
    plane[:75, 105:], plane[75:, :105], plane[75:, 105:] = 1.0, 3.0, 12.0
    return dict.fromkeys("RGB", plane)


@pytest.mark.parametrize(
    ("finish", "shape", "brightest"),
    [
        ({}, (150, 210), (1, 1)),
        ({"flip": "horizontal"}, (150, 210), (1, 0)),
        ({"flip": "vertical"}, (150, 210), (0, 1)),
        ({"flip": "both"}, (150, 210), (0, 0)),
        ({"turn": 90}, (210, 150), (1, 0)),
        ({"turn": 180}, (150, 210), (0, 0)),
        ({"turn": -90}, (210, 150), (0, 1)),
        ({"crop": (105, 75, 210, 150)}, (75, 105), None),
    ],
)
def test_flips_and_quarters_put_each_corner_where_it_belongs(
    finish: dict[str, object], shape: tuple[int, int], brightest: tuple[int, int] | None
) -> None:
    driver = renderer(corner_picture())
    made = recipe(finish=finish)
    assert driver.shape_of(made) == shape
    code = driver.code(made, View(0, 0, 1, shape[1], shape[0]))[0]
    if brightest is None:
        assert np.ptp(code) < 1e-5  # one quarter alone
        return
    halves = (slice(None, shape[0] // 2), slice(shape[0] // 2, None))
    sides = (slice(None, shape[1] // 2), slice(shape[1] // 2, None))
    levels = {(i, j): code[h, s].mean() for i, h in enumerate(halves) for j, s in enumerate(sides)}
    assert max(levels, key=lambda k: levels[k]) == brightest
    bands = list(driver.bands(made, shape, "uint8"))
    written = np.concatenate(bands)[..., 0] / 255
    assert np.abs(written - code).max() <= 1 / 255


@given(
    st.floats(-180, 180),
    st.sampled_from(["", "horizontal", "vertical", "both"]),
    st.booleans(),
    st.integers(0, 60),
    st.integers(0, 40),
)
def test_a_place_goes_to_the_grid_and_back(
    turn: float, flip: str, trim: bool, x0: int, y0: int
) -> None:
    found = placed((120, 200), (x0, y0, x0 + 90, y0 + 70), flip, turn, trim)
    middle = found.to_grid(found.shape[1] / 2, found.shape[0] / 2)
    assert middle == pytest.approx((x0 + 45, y0 + 35), abs=1e-6)  # the turn keeps the middle
    for x, y in ((0.0, 0.0), (13.0, 44.0)):
        assert found.from_grid(*found.to_grid(x, y)) == pytest.approx((x, y), abs=1e-6)
    corners = [found.to_grid(x, y) for x in (0, found.shape[1]) for y in (0, found.shape[0])]
    inside = all(
        x0 - 1e-6 <= x <= x0 + 90 + 1e-6 and y0 - 1e-6 <= y <= y0 + 70 + 1e-6 for x, y in corners
    )
    if trim:
        assert inside  # no empty corner is left
    else:
        at = [found.from_grid(x, y) for x in (x0, x0 + 90) for y in (y0, y0 + 70)]
        assert all(-1e-6 <= x <= found.shape[1] + 1e-6 for x, _ in at)
        assert all(-1e-6 <= y <= found.shape[0] + 1e-6 for _, y in at)


def test_a_free_turn_is_the_same_picture_and_its_corners_are_sky(
    planes: dict[str, np.ndarray],
) -> None:
    driver = renderer(planes)
    made = recipe(finish={"turn": 20, "trim": False})
    tall, wide = driver.shape_of(made)
    code = driver.code(made, View(0, 0, 1, wide, tall))
    assert code[0, 0, 0] == pytest.approx(made.settings.stretch.background, abs=1e-5)
    place = placed(SHAPE, turn_deg=20)
    seen = sample((planes["R"],), View(0, 0, 1, wide, tall, place))
    x, y = place.from_grid(120.5, 70.5)
    assert seen[int(y) - 4 : int(y) + 4, int(x) - 4 : int(x) + 4].mean() == pytest.approx(
        planes["R"][66:75, 116:125].mean(), rel=0.05
    )
    tile = driver.code(made, View(40, 60, 1, 50, 40))
    np.testing.assert_allclose(tile, code[:, 60:100, 40:90], atol=2e-3)


def test_a_crop_outside_is_refused_in_one_sentence(planes: dict[str, np.ndarray]) -> None:
    driver = renderer(planes)
    outside = recipe(finish={"crop": (400, 10, 500, 90)})
    with pytest.raises(InputError, match="crop lies outside"):
        driver.shape_of(outside)
    partly = recipe(finish={"crop": (150, 100, 400, 400)})
    assert driver.shape_of(partly) == (50, 60)
    with pytest.raises(ValueError, match="have an inside"):
        recipe(finish={"crop": (10, 10, 10, 40)})


@given(st.floats(0, 359.9), st.booleans())
def test_north_goes_up_and_east_to_the_left(angle: float, mirrored: bool) -> None:
    c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
    sky = np.array([[-1.0, 0.0], [0.0, -1.0]])  # east left and north up, rows downward
    matrix = sky @ np.array([[c, -s], [s, c]]) @ np.diag([-1.0 if mirrored else 1.0, 1.0])
    flip, turn = north_up(matrix / 3600)
    place = placed((100, 100), None, flip, turn)
    start, up = place.to_grid(50, 50), place.to_grid(50, 40)
    left = place.to_grid(40, 50)
    north = matrix @ (np.array(up) - np.array(start))
    east = matrix @ (np.array(left) - np.array(start))
    np.testing.assert_allclose(north, [0, 10], atol=0.05)
    np.testing.assert_allclose(east, [10, 0], atol=0.05)

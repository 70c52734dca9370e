"""The blend: curve, level, balance, mappings, colour, noise, and that a tile is a part of the
whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.blend import (
    MAPPINGS,
    Blender,
    auto_balance,
    available_mappings,
    level_channels,
    mapping_mix,
    parse_mapping,
    predict_noise,
)
from bichromus.core.blend.colour import apply_colour, limit_hue, needed
from bichromus.core.blend.companions import glow_plane, half_size, star_plane
from bichromus.core.blend.compose import compose, figures_of
from bichromus.core.blend.green import BACKGROUND_SHARE
from bichromus.core.blend.inputs import DISCS, GLOW, GREEN, Key, inputs_of
from bichromus.core.blend.noise import at_balance
from bichromus.core.blend.pixels import Clipped
from bichromus.core.blend.render import Renderer
from bichromus.core.blend.sources import RowSource
from bichromus.core.blend.stretch import Curve
from bichromus.core.measure import find_stars, measure_channels
from bichromus.core.model.errors import UnknownName, UnsupportedData
from bichromus.core.model.measures import Stars, Surface
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.recipe import BlendFigures, ChannelFigures, Recipe
from bichromus.core.model.settings import BlendSettings, Colour, Stretch
from bichromus.core.numerics.oklab import decode, encode, from_oklab, into_gamut, to_oklab
from bichromus.core.numerics.sampling import View, sample
from bichromus.core.simulate.scene import Scene
from sky import stack_of

PLAIN = Colour(limit_green=0, limit_magenta=0, saturation=1, star_colour=1)
NEED_ALL = ["Ha", "O3", "S2", "Hb", "R", "G", "B"]


def figures(signal: float, sigma: float, **more: float) -> ChannelFigures:
    return ChannelFigures(shape=(64, 64), signal=signal, sigma_px=sigma, white=40 * signal, **more)


TRIO = {
    "Ha": figures(8, 0.1, snr=80),
    "O3": figures(1, 0.08, snr=12, hours=3),
    "S2": figures(0.6, 0.09, snr=7, hours=4),
}


def recipe(
    mapping: str = "hubble-order",
    channels: dict[str, ChannelFigures] | None = None,
    **changes: object,
) -> Recipe:
    settings = BlendSettings(mapping=mapping, **changes)  # type: ignore[arg-type]
    return compose(settings, BlendFigures(channels=channels or TRIO))


def render(
    blender: Blender,
    planes: Sequence[np.ndarray],
    glow: np.ndarray | None = None,
    discs: np.ndarray | None = None,
) -> np.ndarray:
    """Code of planes in the order of the blender's channels; companions are nothing where none are
    given, green as where there is no light.
    """
    nothing = np.zeros_like(planes[0])
    given = dict.fromkeys(blender.inputs, nothing)
    given[GREEN] = np.full_like(nothing, BACKGROUND_SHARE)
    given |= {Key("channel", n): p for n, p in zip(blender.figures, planes, strict=True)}
    given |= {k: p for k, p in ((GLOW, glow), (DISCS, discs)) if p is not None}
    return blender.render(given)


@settings(max_examples=60)
@given(st.floats(0.02, 0.3), st.floats(0.4, 0.69), st.floats(0.6, 20), st.floats(1.0, 300))
def test_the_curve_lands_where_it_promises(
    background: float, signal: float, strength: float, white: float
) -> None:
    curve = Curve(
        Stretch(background=background, signal=signal, strength=strength, shoulder=0.7), white
    )
    x = np.array([[0.0, 1.0, white, 0.5, -0.5]], np.float32)
    f = curve(x)[0]
    assert f[0] == pytest.approx(background, abs=1e-6)
    assert f[1] == pytest.approx(signal, abs=2e-6)
    assert f[2] <= 1 + 1e-5
    assert f[3] - background == pytest.approx(background - f[4], abs=1e-6)  # noise stays symmetric
    steps = curve(np.linspace(-2, white, 500, dtype=np.float32)[None])[0]
    assert (np.diff(steps) > 0).all()
    if f[3] < 0.7:
        assert curve.inverse(float(f[3])) == pytest.approx(0.5, abs=1e-3)


@given(
    st.lists(st.tuples(st.floats(0.05, 50), st.floats(0.01, 2)), min_size=2, max_size=5),
    st.floats(0, 1),
)
def test_levels_run_from_equally_loud_to_equal_noise(
    pairs: list[tuple[float, float]], balance: float
) -> None:
    channels = {n: figures(s, e) for n, (s, e) in zip(NEED_ALL, pairs, strict=False)}
    loud, clean, between = (level_channels(channels, channels, b) for b in (0.0, 1.0, balance))
    for name, f in channels.items():
        assert loud.gains[name] * f.signal == pytest.approx(1, rel=1e-5)
        assert between.gains[name] <= loud.gains[name] * (1 + 1e-9)
        assert between.gains[name] >= clean.gains[name] * (1 - 1e-9)
        assert between.noise[name] <= between.kappa * (1 + 1e-6)
    assert max(clean.noise.values()) == pytest.approx(min(loud.noise.values()), rel=1e-5)


def test_a_channel_without_signal_gets_gain_nought() -> None:
    levels = level_channels({**TRIO, "Hb": figures(0, 0.1)}, TRIO, 0.0)
    assert levels.silent == ("Hb",)
    assert levels.gains["Hb"] == levels.lift("Hb") == 0


def measured(
    scene: Scene,
    names: tuple[str, ...] = ("Ha", "O3", "S2"),
    subs: int = 96,
) -> tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]]:
    pictures = {
        n: Picture(stack_of(scene, "Ridge", n, subs, 60 + i), Header(saturation=1.0))
        for i, n in enumerate(names)
    }
    found = measure_channels(pictures)
    planes = {n: p.data - found[n].surface.rows(0, p.shape[0]) for n, p in pictures.items()}
    return (
        planes,
        {n: figures_of(m, Header(total_s=subs * 300.0)) for n, m in found.items()},
        {n: m.stars for n, m in found.items()},
    )


@pytest.fixture(scope="module")
def sky(scene: Scene) -> tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]]:
    return measured(scene)


def test_no_channel_swallows_the_palette(
    scene: Scene, sky: tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]]
) -> None:
    planes, channels, _ = sky
    assert channels["Ha"].signal > 4 * channels["O3"].signal
    made = recipe(channels=channels, balance=0, balance_auto=False, colour=PLAIN)
    code = render(Blender(made), [planes[n] for n in ("Ha", "O3", "S2")])
    quiet = np.logical_and.reduce(
        [scene.lines[n] < np.quantile(scene.lines[n], 0.4) for n in planes]
    )
    loud = []
    for output, name in zip(code, ("S2", "Ha", "O3"), strict=True):
        strong = scene.lines[name] > np.quantile(scene.lines[name], 0.9)
        loud.append(np.median(output[strong]) - np.median(output[quiet]))
    assert max(loud) < 1.5 * min(loud)


def test_the_predicted_noise_is_the_rendered_one_and_balance_cleans(
    scene: Scene, sky: tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]]
) -> None:
    planes, channels, _ = sky
    quiet = np.logical_and.reduce(
        [scene.lines[n] <= np.quantile(scene.lines[n], 0.15) for n in planes]
    )
    y, x = np.nonzero(quiet)
    lonely = np.min(np.hypot(x[:, None] - scene.stars.x, y[:, None] - scene.stars.y), axis=1) > 12
    quiet[y[~lonely], x[~lonely]] = False
    seen = {}
    for balance in (0.0, 0.5, 1.0):
        made = recipe(channels=channels, balance=balance, balance_auto=False)
        code = render(Blender(made), [planes[n] for n in ("Ha", "O3", "S2")])
        lab = to_oklab(decode(np.ascontiguousarray(code.reshape(3, -1)[:, quiet.ravel()])))
        predicted = predict_noise(made)
        spread = [float(row.std()) for row in lab]
        outputs = [float(o[quiet].std()) for o in code]
        np.testing.assert_allclose(list(predicted.outputs.values()), outputs, rtol=0.15)
        assert predicted.lightness == pytest.approx(spread[0], rel=0.15)
        assert predicted.chroma == pytest.approx(np.hypot(spread[1], spread[2]), rel=0.15)
        seen[balance] = np.hypot(*spread[1:])
    assert seen[1.0] < 0.8 * seen[0.5] < 0.8 * seen[0.0]


def test_prediction_against_plain_sampling_of_the_engine() -> None:
    made = recipe(balance=0.2, balance_auto=False, colour=Colour(saturation=1.4))
    rng = np.random.default_rng(8)
    planes = [
        rng.standard_normal((400, 400), dtype=np.float32) * np.float32(TRIO[n].sigma_px)
        for n in TRIO
    ]
    code = render(Blender(made), planes)
    lab = to_oklab(decode(code.reshape(3, -1)))
    found = predict_noise(made)
    assert found.lightness == pytest.approx(lab[0].std(), rel=0.03)
    assert found.chroma == pytest.approx(np.hypot(lab[1].std(), lab[2].std()), rel=0.03)


def test_the_automatic_balance_is_the_smallest_within_the_limits() -> None:
    made = recipe()
    limits = made.settings.limits
    chosen = auto_balance(made)
    assert 0 < chosen < 1
    assert made.settings.balance == chosen
    assert predict_noise(at_balance(made, chosen)).within(limits)
    assert not predict_noise(at_balance(made, chosen - 0.02)).within(limits)
    clean = {n: f.model_copy(update={"sigma_px": f.sigma_px / 50}) for n, f in TRIO.items()}
    assert recipe(channels=clean).settings.balance == 0
    noisy = {n: f.model_copy(update={"sigma_px": f.signal}) for n, f in TRIO.items()}
    assert recipe(channels=noisy).settings.balance == 1


def whole_rows(plane: np.ndarray, y0: int, y1: int) -> np.ndarray:
    return plane[y0:y1]


def test_a_tile_a_band_and_the_whole_are_the_same_picture(
    sky: tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]],
) -> None:
    planes, channels, stars = sky
    made = recipe(channels=channels, colour=Colour(saturation=1.5, limit_magenta=0.3))
    blender = Blender(made)
    order = [planes[n] for n in blender.names]
    height, width = order[0].shape
    glow = glow_plane(
        (half_size(p), channels[n]) for p, n in zip(order, blender.names, strict=True)
    )
    mask = star_plane((height, width), [stars[n] for n in blender.names])
    whole_view, tile = View(0, 0, 1, width, height), View(33, 101, 1, 257, 72)

    def companions(view: View) -> list[np.ndarray]:
        return [sample((c,), view, 1, cv2.BORDER_REPLICATE) for c in (glow, mask)]

    whole = render(blender, order, *companions(whole_view))
    cut = (slice(101, 173), slice(33, 290))
    part = render(blender, [p[cut] for p in order], *companions(tile))
    np.testing.assert_allclose(part, whole[:, cut[0], cut[1]], atol=2e-6)
    # the driver gives the same: through a view of whole rows, and band by band
    surface = Surface(0.0, 0, 0, width, height)
    sources = {
        n: RowSource(partial(whole_rows, p), surface, lambda _p, s=stars[n]: s, n)
        for n, p in planes.items()
    }
    renderer = Renderer(sources, (height, width))
    np.testing.assert_allclose(renderer.code(made, whole_view), whole, atol=2e-6)
    clipped = Clipped()
    bands = list(renderer.bands(made, (height, width), "uint16", clipped=clipped))
    written = np.moveaxis(np.concatenate(bands).astype(np.float32) / 65535, -1, 0)
    np.testing.assert_allclose(written, whole, atol=1.2 / 65535 + 2e-6)
    assert clipped.high <= 0.0005
    assert np.isfinite(whole).all()


def test_companions_follow_the_settings_and_the_data_that_they_were_made_of(
    sky: tuple[dict[str, np.ndarray], dict[str, ChannelFigures], dict[str, Stars]],
) -> None:
    planes, channels, stars = sky
    height, width = next(iter(planes.values())).shape
    surface = Surface(0.0, 0, 0, width, height)
    sought: list[str] = []

    def source(name: str, key: str) -> RowSource:
        def find(_plane: np.ndarray) -> Stars:
            sought.append(key)
            return stars[name]

        return RowSource(partial(whole_rows, planes[name]), surface, find, key)

    renderer = Renderer({n: source(n, n) for n in planes}, (height, width))
    plain = recipe(channels=channels, colour=PLAIN)
    assert not [k for k in inputs_of(plain) if k.kind != "channel"]
    vivid = recipe(channels=channels, colour=Colour(saturation=1.5, star_colour=0.3))
    glow, mask = (renderer.companion(vivid, k) for k in (GLOW, DISCS))
    assert sorted(sought) == sorted(vivid.settings.used())
    more = recipe(channels=channels, colour=Colour(saturation=2.0))
    assert renderer.companion(more, GLOW) is glow  # its amount is no reason to make it anew
    assert renderer.companion(more, DISCS) is mask
    # other figures make another glow, other data another star plane
    louder = {n: f.model_copy(update={"sigma_eff": 2 * f.sigma_px}) for n, f in channels.items()}
    other = recipe(channels=louder, colour=Colour(saturation=1.5))
    assert renderer.companion(other, GLOW) is not glow
    sought.clear()
    renderer.sources["Ha"] = source("Ha", "Ha of another night")
    renderer.companion(vivid, DISCS)
    assert "Ha of another night" in sought


def test_nan_becomes_background_and_never_leaves() -> None:
    made = recipe(balance=0, balance_auto=False, colour=PLAIN)
    plane = np.zeros((8, 8), np.float32)
    plane[2, 2] = np.nan
    code = render(Blender(made), [plane] * 3)
    np.testing.assert_allclose(code, made.settings.stretch.background, atol=1e-6)


@pytest.mark.parametrize("mapping", [*MAPPINGS, "R=0.5*Ha+0.5*O3,G=S2,B=0.2*Ha-0.1*S2+O3"])
def test_every_mapping_keeps_the_background_grey_and_the_picture_in_range(mapping: str) -> None:
    trio = list(TRIO.values())
    more = {n: trio[i % 3] for i, n in enumerate(NEED_ALL)}
    made = recipe(mapping, channels={**more, **TRIO}, balance=0, balance_auto=False)
    blender = Blender(made)
    shape = (40, 50)
    empty = render(blender, [np.zeros(shape, np.float32)] * len(blender.figures))
    np.testing.assert_allclose(empty, made.settings.stretch.background, atol=2e-4)
    rng = np.random.default_rng(2)
    wild = [(rng.standard_normal(shape) * 30).astype(np.float32) for _ in blender.figures]
    code = render(blender, wild, np.abs(wild[0]), np.full(shape, 0.5, np.float32))
    assert code.min() >= 0
    assert code.max() <= 1


def test_mappings_say_what_goes_where() -> None:
    base = BlendSettings(mapping="bicolour-shared", green_share=0.7)
    mix = mapping_mix(base, ["Ha", "O3"])
    assert mix == {"R": {"Ha": 1.0}, "G": {"O3": 0.7, "Ha": 0.3}, "B": {"O3": 1.0}}
    assert {m.id for m in available_mappings(["Ha", "O3"])} == {
        "bicolour",
        "bicolour-shared",
        "line-hues",
    }
    hues = mapping_mix(BlendSettings(mapping="line-hues"), ["Ha", "O3", "S2"])
    assert hues["R"]["Ha"] > 0.4 > hues["G"].get("Ha", 0)
    assert hues["G"]["O3"] > 0.4 > hues["R"].get("O3", 0)
    assert max(sum(row.values()) for row in hues.values()) == pytest.approx(1, abs=1e-3)
    alike = mapping_mix(BlendSettings(mapping="line-hues", hue_spread=0), ["Ha", "O3", "S2"])
    spread = mapping_mix(BlendSettings(mapping="line-hues", hue_spread=1), ["Ha", "O3", "S2"])

    def apart(m: dict[str, dict[str, float]]) -> float:
        return sum(abs(m[o].get("Ha", 0) - m[o].get("S2", 0)) for o in "RGB")

    assert apart(spread) > 3 * apart(alike)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("R=Ha,G=O3", "does not say what R, G and B"),
        ("R=Ha,R=O3,B=O3", "not clear"),
        ("R=Ha,G=He,B=O3", "No channel"),
        ("R=Ha,G=B,B=O3", "takes B, which is not there"),
        ("R=9*Ha,G=O3,B=O3", "Stay between"),
        ("R=Ha*2,G=O3,B=O3", "not clear"),
        ("rubbish", "No mapping"),
        ("hubble-order", "needs S2"),
    ],
)
def test_a_mapping_that_cannot_be_is_refused_in_words(text: str, words: str) -> None:
    with pytest.raises(UnknownName, match=words):
        mapping_mix(BlendSettings(mapping=text), ["Ha", "O3"])


def test_a_free_mapping_is_read_as_written() -> None:
    mix = parse_mapping(" r = S2, G=0.8*Ha + .2*O3 - 0.1*S2, B=O3", ["Ha", "O3", "S2"])
    assert mix == {"R": {"S2": 1}, "G": {"Ha": 0.8, "O3": 0.2, "S2": -0.1}, "B": {"O3": 1}}


def test_limits_take_colour_and_leave_lightness() -> None:
    rng = np.random.default_rng(3)
    lab = np.stack([rng.uniform(0.2, 0.9, 4000), *rng.uniform(-0.15, 0.15, (2, 4000))]).astype(
        np.float32
    )
    before = lab.copy()
    limit_hue(lab, (142.5, 35.0), 1.0)
    np.testing.assert_array_equal(lab[0], before[0])
    hue = np.rad2deg(np.arctan2(before[2], before[1])) % 360
    far = np.abs((hue - 142.5 + 180) % 360 - 180) > 36
    np.testing.assert_allclose(lab[:, far], before[:, far], atol=1e-6)
    green = np.abs((hue - 142.5 + 180) % 360 - 180) < 5
    assert (np.hypot(*lab[1:, green]) < np.hypot(*before[1:, green])).all()


def coloured(code: np.ndarray, settings: Colour, discs: np.ndarray | None) -> np.ndarray:
    """Code after the colour steps."""
    lab = to_oklab(decode(code.copy()))
    apply_colour(lab, settings, None, discs)
    return encode(into_gamut(from_oklab(lab), lab[0]))


def test_colour_steps_leave_grey_grey_and_bring_all_into_gamut() -> None:
    grey = np.repeat(np.linspace(0.02, 0.98, 200, dtype=np.float32)[None], 3, 0)
    full = Colour(limit_green=1, limit_magenta=1, saturation=2.5, star_colour=0)
    np.testing.assert_allclose(coloured(grey, full, np.ones(200, np.float32)), grey, atol=3e-4)
    rng = np.random.default_rng(5)
    lab = np.stack([rng.uniform(0.1, 0.95, 3000), *rng.uniform(-0.4, 0.4, (2, 3000))]).astype(
        np.float32
    )
    fitted = into_gamut(from_oklab(lab), lab[0])
    assert fitted.min() >= -1e-4
    assert fitted.max() <= 1 + 1e-4
    assert not needed(PLAIN)


def test_stars_turn_white_where_asked_and_only_there() -> None:
    code = np.tile(np.array([[0.8], [0.3], [0.5]], np.float32), (1, 2))
    calm = coloured(code, replace_colour(star_colour=0.0), np.array([1.0, 0.0], np.float32))
    assert np.ptp(calm[:, 0]) < 5e-3
    np.testing.assert_allclose(calm[:, 1], code[:, 1], atol=2e-4)


def replace_colour(**more: float) -> Colour:
    return PLAIN.model_copy(update=more)


def test_there_is_nothing_to_show_without_signal() -> None:
    empty = {n: f.model_copy(update={"signal": 0.0}) for n, f in TRIO.items()}
    with pytest.raises(UnsupportedData, match="no signal stands out"):
        recipe(channels=empty)
    with pytest.raises(UnsupportedData, match="nothing to blend"):
        Blender(replace_mix(recipe(), {}))


def replace_mix(made: Recipe, mix: dict[str, dict[str, float]]) -> Recipe:
    return made.model_copy(update={"settings": made.settings.model_copy(update={"mix": mix})})


def test_surface_of_a_source_is_taken_off() -> None:
    surface = Surface(2.0, 0.01, -0.02, 12, 20)
    source = RowSource(lambda y0, y1: surface.rows(0, 20)[y0:y1], surface, find_stars)
    np.testing.assert_allclose(source.clean(5, 9), 0, atol=1e-6)
    assert replace(surface, bx=0.0, by=0.0).peak_to_peak() == 0

"""What broadband allows: a white from the stars, lines on top, a luminance, stars put back."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.advise.balance import advise_blend, hours_for_full_colour, spread_hours
from bichromus.core.blend import Blender, level_channels
from bichromus.core.blend.compose import compose
from bichromus.core.blend.green import BACKGROUND_SHARE, green_plane, middle_share
from bichromus.core.blend.inputs import GLOW, GREEN, STARS, Key, channels_needed
from bichromus.core.blend.lifts import lift_plane, measure_lift
from bichromus.core.blend.luminance import luminance_of, shares_of
from bichromus.core.blend.measuring import field_hue, region_white, star_figures, white_figures
from bichromus.core.clean.star_sets import StarLayer, sources_of, star_set
from bichromus.core.measure.white import StarPlane, star_white
from bichromus.core.model.measures import Stars
from bichromus.core.model.recipe import (
    BlendFigures,
    ChannelFigures,
    LiftFigures,
    Recipe,
    StarFigures,
    WhiteFigures,
)
from bichromus.core.model.settings import BlendSettings, White
from bichromus.core.numerics.oklab import decode, to_oklab
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import StarTable

PLAIN = {"limit_green": 0.0, "star_colour": 1.0}


def figures(signal: float, sigma: float, starless: bool = True, **more: float) -> ChannelFigures:
    return ChannelFigures(
        shape=(64, 64), signal=signal, sigma_px=sigma, white=40 * signal, starless=starless, **more
    )


BROAD = {
    "Ha": figures(4, 0.2, snr=30, hours=3),
    "R": figures(2.0, 0.1, snr=20, hours=1),
    "G": figures(0.5, 0.1, snr=5, hours=1),
    "B": figures(1.0, 0.1, snr=10, hours=1),
    "L": figures(5.0, 0.05, snr=80, hours=4),
}


def recipe(
    mapping: str = "rgb", more: dict[str, object] | None = None, **changes: object
) -> Recipe:
    asked = {"balance": 0.0, "balance_auto": False, "colour": PLAIN, **changes}
    evidence: dict[str, object] = {
        "channels": BROAD,
        "white": WhiteFigures(gains=(0.8, 1.0, 1.3), stars=200, error=0.01),
        "lifts": {"Ha": LiftFigures(broad="R", k=0.5, stars=300, knots=3.0)},
        **(more or {}),
    }
    return compose(
        BlendSettings.model_validate({"mapping": mapping, **asked}),
        BlendFigures.model_validate(evidence),
    )


def render(made: Recipe, planes: Mapping[str, np.ndarray], **companions: np.ndarray) -> np.ndarray:
    """Code of planes by channel; companions by their kind, nothing where none are given."""
    blender = Blender(made)
    nothing = np.zeros_like(next(iter(planes.values())))
    given = dict.fromkeys(blender.inputs, nothing)
    given |= {Key("channel", n): p for n, p in planes.items()}
    given |= {k: companions[k.kind] for k in blender.inputs if k.kind in companions}
    for key, plane in zip(STARS, companions.get("stars", []), strict=False):
        given[key] = plane
    return blender.render(given)


def lightness(code: np.ndarray) -> np.ndarray:
    return to_oklab(decode(np.ascontiguousarray(code.reshape(3, -1))))[0]


# --- white ---


def star_field(
    gains: tuple[float, float, float], count: int = 240, nebula: float = 0.0
) -> tuple[dict[str, StarPlane], Stars]:
    """R, G and B of stars whose middle colour is white, each channel with its own gain; a nebula
    that is loud in red alone.
    """
    rng = np.random.default_rng(7)
    shape = (420, 600)
    x, y = rng.uniform(12, 588, count), rng.uniform(12, 408, count)
    flux = rng.pareto(1.2, count) * 150 + 150
    warm = rng.normal(0, 0.35, count)
    warm -= np.median(warm)
    zero = np.zeros(count, np.float32)
    table = StarTable(x.astype(np.float32), y.astype(np.float32), zero, zero, zero)
    planes = {}
    for name, gain, tilt in zip("RGB", gains, (1, 0, -1), strict=True):
        plane = np.zeros(shape, np.float32)
        render_stars(plane, table, flux * np.exp(tilt * warm) * gain, 3.0)
        if name == "R":
            plane += np.float32(nebula) * (np.arange(600, dtype=np.float32) > 300)
        plane += rng.normal(0, 0.1, shape).astype(np.float32)
        planes[name] = StarPlane(plane, 0.1)
    order = np.argsort(flux)[::-1]
    return planes, Stars(
        count, 3.0, 1.6, 0.0, 0, 3.2, tuple(x[order]), tuple(y[order]), tuple(flux[order])
    )


@pytest.mark.parametrize("nebula", [0.0, 60.0])
def test_white_comes_from_the_stars_and_not_from_the_nebula(nebula: float) -> None:
    planes, stars = star_field((2.0, 1.0, 0.5), nebula=nebula)
    found = star_white(planes, stars)
    assert found is not None
    assert found.stars > 80
    assert found.gains[1] == 1
    assert found.gains[0] == pytest.approx(0.5, rel=max(0.03, 3 * found.error))
    assert found.gains[2] == pytest.approx(2.0, rel=max(0.03, 3 * found.error))
    assert 0.002 < found.error < 0.08
    told = white_figures(White(), planes, stars)
    assert (told.gains, told.stars) == (found.gains, found.stars)
    warm = white_figures(White(field_hue=True), planes, stars)
    assert warm.gains[0] > told.gains[0]
    assert warm.gains[2] < told.gains[2]
    assert field_hue()[0] > 1 > field_hue()[2]


def test_full_and_few_stars_tell_no_white_and_a_region_or_a_word_does() -> None:
    planes, stars = star_field((2.0, 1.0, 0.5))
    full = {n: StarPlane(p.plane, p.sigma, 0.01) for n, p in planes.items()}
    assert star_white(full, stars) is None
    assert star_white(planes, Stars(0, None, None, None, 0)) is None
    assert white_figures(White(), full, stars) == WhiteFigures()
    typed = White(by="typed", gains=(1.2, 1, 1.4))
    assert white_figures(typed, planes, stars).gains == (1.2, 1, 1.4)
    disc = {n: np.full((20, 20), v, np.float32) for n, v in (("R", 4.0), ("G", 2.0), ("B", 1.0))}
    assert region_white((2, 2, 9, 9), disc).gains == (0.5, 1.0, 2.0)
    assert region_white((2, 2, 9, 9), {n: -p for n, p in disc.items()}) == WhiteFigures()


# --- the group ---


def test_the_broadband_group_keeps_its_ratios_whatever_the_nebula() -> None:
    white = WhiteFigures(gains=(0.8, 1.0, 1.3))
    for balance in (0.0, 0.5, 1.0):
        levels = level_channels(BROAD, ["R", "G", "B", "Ha"], balance, white)
        gains = levels.gains
        assert gains["R"] / gains["G"] == pytest.approx(0.8)
        assert gains["B"] / gains["G"] == pytest.approx(1.3)
    loud = level_channels(BROAD, ["R", "G", "B"], 0.0, white)
    # green is not raised by how little nebula it holds: the middle one of the group stands at 1
    assert loud.gains["B"] * BROAD["B"].signal == pytest.approx(1)
    assert loud.lift("G") == 1
    capped = level_channels(BROAD, ["R", "G", "B", "Ha"], 1.0, white)
    assert max(capped.noise[n] for n in "RGB") <= capped.kappa * (1 + 1e-6)


@settings(max_examples=60)
@given(
    st.lists(st.tuples(st.floats(0.05, 2), st.floats(0.3, 6)), min_size=2, max_size=3),
    st.floats(1.05, 4),
)
def test_hours_of_the_group_go_where_they_calm_it_fastest(
    pairs: list[tuple[float, float]], factor: float
) -> None:
    names = "RGB"[: len(pairs)]
    noise = {n: p[0] for n, p in zip(names, pairs, strict=True)}
    hours = {n: p[1] for n, p in zip(names, pairs, strict=True)}
    found = spread_hours(noise, dict(hours), factor)
    left = sum((noise[n] / found[n]) ** 2 for n in names)
    assert left == pytest.approx(sum(v**2 for v in noise.values()) / factor**2, rel=1e-6)
    spent = sum(hours[n] * (found[n] ** 2 - 1) for n in names)
    evenly = sum(hours[n] * (factor**2 - 1) for n in names)
    assert spent <= evenly * (1 + 1e-9)
    assert all(f >= 1 for f in found.values())
    assert spread_hours(noise, dict(hours), 1.0) == dict.fromkeys(noise, 1.0)
    assert spread_hours(noise, {**hours, "R": None}, 2.0) == dict.fromkeys(noise, 2.0)


def test_the_advice_speaks_of_the_group_in_one_sentence() -> None:
    noisy = {n: BROAD[n].model_copy(update={"sigma_px": 0.4}) for n in "RGB"}
    made = recipe(more={"channels": {**BROAD, **noisy}})
    needs = hours_for_full_colour(made)
    assert {n.channel for n in needs} <= set("RGB")
    advice = advise_blend(made, needs)
    assert advice is not None
    assert advice.sentence.startswith("The broadband picture")
    assert advice.sentence.count(" h ") <= 4
    unknown = {n: f.model_copy(update={"hours": None}) for n, f in noisy.items()}
    vague = advise_blend(recipe(more={"channels": {**BROAD, **unknown}}))
    assert vague is not None
    assert "must fall" in vague.sentence


# --- lines on top ---


def test_ha_on_rgb_reddens_its_knots_and_nothing_else() -> None:
    rng = np.random.default_rng(2)
    shape = (90, 120)
    red = np.full(shape, 2.0, np.float32)
    knots = np.zeros(shape, np.float32)
    knots[30:50, 40:70] = 3.0
    planes = {
        "R": red + rng.normal(0, 0.05, shape).astype(np.float32),
        "G": np.full(shape, 1.6, np.float32),
        "B": np.full(shape, 1.2, np.float32),
        "Ha": 0.5 * red + knots + rng.normal(0, 0.1, shape).astype(np.float32),
    }
    both = (BROAD["Ha"], BROAD["R"])
    weight = lift_plane(planes["Ha"], planes["R"], 0.5, both, 1.0)
    assert weight[35:45, 45:65].min() > 0.9
    assert np.median(weight[60:]) < 0.1
    assert weight.max() <= 1
    told = measure_lift(planes["Ha"], planes["R"], LiftFigures(broad="R", k=0.5), both)
    assert told.knots == pytest.approx(3.0, abs=0.2)
    more = {"lifts": {"Ha": told}}
    off = render(recipe("ha-rgb", more, lift={"amount": {"Ha": 0.0}}), planes)
    for by in ("red", "lift", "both"):
        on = render(recipe("ha-rgb", more, lift={"by": by}), planes, lift=weight)
        assert (lightness(on) - lightness(off)).min() > -1e-4  # nothing is darkened
        inside, outside = np.s_[:, 35:45, 45:65], np.s_[:, 65:, :]
        grown = (on - off)[inside].mean((1, 2))
        assert np.abs((on - off)[outside]).mean() < 0.003
        if by == "lift":
            assert grown.min() > 0.01
        else:
            assert grown[0] > (2 if by == "red" else 1.3) * abs(grown[1])
            assert grown[2] > 0  # its sisters shine blue
    full = render(recipe("ha-rgb", more, lift={"amount": {"Ha": 2.0}}), planes, lift=weight)
    half = render(recipe("ha-rgb", more, lift={"amount": {"Ha": 0.5}}), planes, lift=weight)
    assert full[0, 40, 50] > half[0, 40, 50] > off[0, 40, 50]


def test_a_galaxy_without_gas_is_not_reddened() -> None:
    y, x = np.mgrid[:80, :80].astype(np.float32)
    disc = 6 * np.exp(-np.hypot(x - 40, y - 40) / 12)
    both = (BROAD["Ha"], BROAD["R"])
    assert lift_plane(0.5 * disc, disc, 0.5, both, 1.0).max() < 0.02
    # where the stars' light is left in, all of it counts as line
    assert lift_plane(0.5 * disc, disc, 0.0, both, 1.0).max() > 0.9
    assert measure_lift(0.5 * disc, disc, LiftFigures(broad="R", k=0.5), both).knots == 0


def test_what_a_picture_reads_is_known_before_it_is_made() -> None:
    names = ["Ha", "O3", "R", "G", "B", "L"]
    assert channels_needed(BlendSettings(mapping="bicolour"), names) == ("Ha", "O3")
    assert set(channels_needed(BlendSettings(mapping="ha-rgb"), names)) == {*"RGB", "Ha", "O3"}
    light = BlendSettings.model_validate({"mapping": "rgb", "luminance": {"source": "L"}})
    assert set(channels_needed(light, names)) == set("RGBL")
    assert channels_needed(BlendSettings(mapping="nothing"), names) == tuple(names)


# --- green ---


def test_green_goes_to_the_louder_line_without_speckles() -> None:
    rng = np.random.default_rng(5)
    shape = (160, 240)
    ha, o3 = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    ha[:, :80], o3[:, 160:] = 4.0, 1.0
    both = (figures(1.0, 0.2), figures(4.0, 0.2))
    seen = [(p + rng.normal(0, 0.2, shape)).astype(np.float32) for p in (o3, ha)]
    share = green_plane(seen[0], seen[1], both, 2.0)
    assert np.median(share[:, 5:60]) == pytest.approx(0.2, abs=0.01)
    assert np.median(share[:, 180:235]) == pytest.approx(0.8, abs=0.01)
    assert np.median(share[:, 105:135]) == pytest.approx(BACKGROUND_SHARE, abs=0.1)
    assert np.abs(np.diff(share[:, 5:60])).max() < 0.01  # nothing of the noise is seen in it
    assert 0.2 <= middle_share(share, seen[0], seen[1], (1.0, 4.0)) <= 0.8
    assert middle_share(share, 0 * o3, 0 * ha, (1.0, 4.0)) == BACKGROUND_SHARE
    pair = {"Ha": figures(4, 0.1), "O3": figures(1, 0.1)}
    made = compose(
        BlendSettings.model_validate(
            {"mapping": "bicolour-shared", "balance_auto": False, "colour": PLAIN}
        ),
        BlendFigures(channels=pair, green=0.37),
    )
    assert made.settings.green_share == 0.37  # what is told; the picture takes the map
    assert GREEN in Blender(made).inputs
    code = render(made, {"Ha": ha, "O3": o3}, green=share)
    typed = made.model_copy(
        update={"settings": made.settings.model_copy(update={"green_auto": False})}
    )
    assert GREEN not in Blender(typed).inputs
    assert code[1, 80, 20] > code[2, 80, 20]  # Ha has its share of green
    assert code[1, 80, 220] > code[0, 80, 220]


# --- luminance ---


def test_a_measured_luminance_gives_the_lightness_and_leaves_the_hue() -> None:
    rng = np.random.default_rng(3)
    shape = (40, 60)
    planes = {n: rng.uniform(0.2, 2, shape).astype(np.float32) for n in "RGB"}
    planes["L"] = rng.uniform(1, 8, shape).astype(np.float32)
    plain = render(recipe(), planes)
    none = render(recipe(luminance={"source": "L", "amount": 0.0}), planes)
    np.testing.assert_array_equal(plain, none)
    made = recipe(luminance={"source": "L", "amount": 1.0})
    lit = render(made, planes, glow=np.full(shape, 50, np.float32))
    curve = Blender(made).curve(planes["L"] / np.float32(BROAD["L"].signal))
    wanted = lightness(np.repeat(np.clip(curve, 0, 1)[None], 3, 0))
    np.testing.assert_allclose(lightness(lit), wanted, atol=4e-3)
    one, two = (to_oklab(decode(c.reshape(3, -1).copy())) for c in (plain, lit))
    vivid = (np.hypot(*one[1:]) > 0.05) & (np.hypot(*two[1:]) > 0.05)
    turn = np.angle((one[1] + 1j * one[2]) * np.conj(two[1] + 1j * two[2]))
    assert np.quantile(np.abs(turn[vivid]), 0.99) < 0.02
    assert GLOW in Blender(made).inputs
    assert shares_of(made) == {"L": 1.0}


def test_ha_as_lightness_never_darkens_and_all_channels_make_a_cleaner_one() -> None:
    rng = np.random.default_rng(4)
    shape = (50, 50)
    planes = {n: rng.uniform(0, 3, shape).astype(np.float32) for n in (*"RGB", "Ha")}
    plain, lifted = (
        render(recipe(luminance={"source": s}), planes, glow=np.full(shape, 50, np.float32))
        for s in ("none", "Ha")
    )
    assert (lightness(lifted) - lightness(plain)).min() > -2e-3
    made = recipe(luminance={"source": "synthetic"})
    found = luminance_of(made)
    assert found is not None
    noise = np.hypot.reduce([w * BROAD[n].sigma_px for n, w in found.weights.items()])
    signal = sum(w * BROAD[n].signal for n, w in found.weights.items())
    plain_noise = np.hypot.reduce([BROAD[n].sigma_px / 3 for n in "RGB"])
    plain_signal = sum(BROAD[n].signal / 3 for n in "RGB")
    assert signal / noise > 1.1 * plain_signal / plain_noise
    shares = shares_of(made)
    assert min(shares.values()) >= 0.08  # a faint channel keeps a say
    assert sum(shares.values()) == pytest.approx(1)
    silent = {**BROAD, "L": BROAD["L"].model_copy(update={"signal": 0.0})}
    assert luminance_of(recipe(more={"channels": silent}, luminance={"source": "L"})) is None


# --- stars ---


@pytest.fixture(scope="module")
def put_back() -> tuple[np.ndarray, StarFigures, Stars]:
    """A set of stars in natural colour from layers of different gains and seeing."""
    planes, stars = star_field((2.0, 1.0, 0.5))
    layers = {n: StarLayer(p.plane, 3.0, p.sigma) for n, p in planes.items()}
    found = star_set("rgb", layers, stars)
    told = star_figures("rgb", list(found.planes), stars, ("R", "G", "B"))
    assert told is not None
    assert told.level < told.top
    return found.planes, told, stars


def starry(told: StarFigures, **stars: object) -> Recipe:
    return recipe(more={"stars": {"rgb": told}}, stars=stars)


def test_stars_come_back_round_and_natural(
    put_back: tuple[np.ndarray, StarFigures, Stars],
) -> None:
    planes, told, stars = put_back
    flat = {n: np.zeros(planes.shape[1:], np.float32) for n in "RGB"}
    made = starry(told, size=1.0)
    code = render(made, flat, stars=planes)
    at = np.rint(np.array([stars.y, stars.x])).astype(int)
    lab = to_oklab(decode(np.ascontiguousarray(code[:, at[0], at[1]])))
    chroma, hue = np.hypot(*lab[1:]), np.rad2deg(np.arctan2(lab[2], lab[1])) % 360
    bright = lab[0] > 0.3
    tinted = (np.abs(hue - 142.5) < 35) | (np.abs(hue - 328.4) < 25)
    assert (tinted & (chroma > 0.04) & bright).sum() <= 0.01 * bright.sum()
    assert np.quantile(chroma[bright], 0.9) > 0.03  # warm and cool ones differ
    white = render(starry(told, size=1.0, saturation=0.0), flat, stars=planes)
    assert np.ptp(white[:, at[0], at[1]], axis=0).max() < 0.02
    assert code.max() > 0.95
    sky = code[:, :, :].reshape(3, -1)[:, planes.max(0).ravel() < told.sigma]
    assert np.abs(sky - made.settings.stretch.background).max() < 0.05


def test_size_brightness_and_how_they_are_joined(
    put_back: tuple[np.ndarray, StarFigures, Stars],
) -> None:
    planes, told, _ = put_back
    flat = {n: np.full(planes.shape[1:], 0.3, np.float32) for n in "RGB"}

    def area(**more: object) -> int:
        code = render(starry(told, **more), flat, stars=planes)
        return int((code.max(0) > 0.6).sum())

    assert area(size=0.2) < 0.7 * area(size=0.6) < 0.7 * area(size=1.0)
    assert area(brightness=0.4) < area(brightness=1.0) < area(brightness=2.0)
    bare = render(recipe(stars={"source": "none"}), flat)
    np.testing.assert_array_equal(render(starry(told, brightness=0.0), flat), bare)
    for join in ("add", "screen"):
        lit = render(starry(told, join=join), flat, stars=planes)
        assert (lit - bare).min() > -2e-3
        assert lit.max() <= 1


def test_stars_are_put_back_on_starless_channels_alone(
    put_back: tuple[np.ndarray, StarFigures, Stars],
) -> None:
    told = put_back[1]
    with_stars = {n: f.model_copy(update={"starless": False}) for n, f in BROAD.items()}
    kept = recipe(more={"stars": {"rgb": told}, "channels": with_stars})
    assert not set(STARS) & set(Blender(kept).inputs)
    assert set(STARS) <= set(Blender(starry(told)).inputs)
    assert starry(told, source="lines").star_set() is None
    assert sources_of({"Ha", "R"}) == ("lines",)
    assert sources_of({"R", "G", "B", "O3"}) == ("rgb", "lines")


def test_stars_of_lines_get_white_from_their_own_middle() -> None:
    planes, stars = star_field((5.0, 1.0, 0.3))
    layers = {
        n: StarLayer(planes[c].plane, 3.0, planes[c].sigma) for n, c in (("Ha", "R"), ("O3", "B"))
    }
    found = star_set("lines", layers, stars)
    at = np.rint(np.array([stars.y[:60], stars.x[:60]])).astype(int)
    light = found.planes[:, at[0], at[1]]
    assert np.median(light[0] / light[2]) == pytest.approx(1, abs=0.15)
    assert np.median(light[1] / np.sqrt(light[0] * light[2])) == pytest.approx(1, abs=0.1)

"""Planning against reference cases, exact answers and brute force."""

from __future__ import annotations

import datetime as dt
import itertools
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.model.errors import InputError
from bichromus.core.plan.allocate import Want, Window, allocate
from bichromus.core.plan.bodies import ephemeris, lit_share, moon_at, sun_at
from bichromus.core.plan.dates import date_of, julian, moment_of
from bichromus.core.plan.earth import Place, alt_az, true_of_date, tt_of, unit
from bichromus.core.plan.exposure import (
    Optics,
    advise_sub,
    hours_for,
    ideal_sub,
    saturation_time,
    snr,
)
from bichromus.core.plan.framing import (
    Field,
    area,
    common_field,
    extent_of,
    frame,
    from_plane,
    panel_centres,
    panels_for,
)
from bichromus.core.plan.horizon import Horizon, make_horizon, read_horizon
from bichromus.core.plan.night import Night, Rules, Target, hidden, plan_night
from bichromus.core.plan.optics import (
    S2_PAIR_NM,
    clear_needed,
    corner_light,
    filter_shift,
    focus_shift,
)
from bichromus.core.plan.season import plan_season
from bichromus.core.plan.sky import (
    airmass,
    bortle_mag,
    dark_nanolamberts,
    moon_nanolamberts,
    nanolamberts,
    photons_ab,
    sky_ab,
    sky_factor,
)

A = Place(48.9, 14.3, 620)
STAR = Target(350.190, 61.2124)
NIGHT = dt.date(2027, 11, 5)


def at(text: str) -> float:
    return julian(dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC))


def near(found: float | None, text: str, seconds: float = 60) -> bool:
    return found is not None and abs(found - at(text)) * 86400 <= seconds


def test_altitude_and_azimuth_of_an_hour_angle() -> None:
    altitude, azimuth = alt_az(64.352133, -6.719892, 38 + 55 / 60 + 17 / 3600)
    assert altitude == pytest.approx(15.1249, abs=0.001)
    assert azimuth == pytest.approx(248.0337, abs=0.001)


def test_the_moon_of_a_textbook_moment() -> None:
    tt = np.array([2448724.5])  # 1992-04-12 0h TT
    moon = (true_of_date(tt) @ moon_at(tt)[0])[0]
    assert np.rad2deg(np.arctan2(moon[1], moon[0])) % 360 == pytest.approx(134.6885, abs=0.002)
    assert np.rad2deg(np.arcsin(moon[2] / np.linalg.norm(moon))) == pytest.approx(
        13.7684, abs=0.002
    )
    assert lit_share(sun_at(tt)[0], moon_at(tt))[0] == pytest.approx(0.6786, abs=0.0005)


def test_a_night_to_the_minute() -> None:
    night = plan_night(A, NIGHT, STAR)
    assert night.state == "normal"
    for name, time in (
        ("sunset", "15:36:32"),
        ("civil_dusk", "16:10:01"),
        ("nautical_dusk", "16:47:35"),
        ("astronomical_dusk", "17:24:21"),
    ):
        assert near(getattr(night, name), f"2027-11-05 {time}"), name
    assert near(night.astronomical_dawn, "2027-11-06 04:09:03")
    assert near(night.moon.set, "2027-11-05 21:18:40")
    assert night.target is not None
    assert near(night.target.transit, "2027-11-05 19:25:37", 30)
    assert night.target.transit_altitude == pytest.approx(77.53, abs=0.02)
    path = night.track
    assert path.moon_distance is not None
    assert np.interp(at("2027-11-06 00:00"), path.utc, path.moon_distance) == pytest.approx(
        85.34, abs=0.05
    )


def test_a_wall_cuts_the_night_in_two() -> None:
    wall = make_horizon([(0, 20), (320, 20), (320, 70), (335, 70), (335, 20)])
    night = plan_night(A, NIGHT, STAR, Rules(horizon=wall))
    assert night.target is not None
    (a, b), (c, d) = night.target.windows
    for found, time in (
        (a, "2027-11-05 17:25"),
        (b, "2027-11-06 01:20"),
        (c, "2027-11-06 03:59"),
        (d, "2027-11-06 04:09"),
    ):
        assert near(found, time, 120)
    assert night.target.hours == pytest.approx(24 * (b - a + d - c))
    behind = [h for h in hidden([night], Rules(horizon=wall)) if a < h[0] < d]
    assert behind[0] == pytest.approx((b, c), abs=120 / 86400)
    higher = replace(STAR, dec=STAR.dec + 20)
    both = [night, plan_night(A, NIGHT, higher, Rules(horizon=wall))]
    alone = [sum(e - s for s, e in hidden([n], Rules(horizon=wall))) for n in both]
    assert sum(e - s for s, e in hidden(both, Rules(horizon=wall))) <= min(alone) + 1e-9


@pytest.mark.parametrize(
    ("lat", "day", "state", "lowest"),
    [
        (59.3, "2027-06-21", "no_nautical_dark", -7.27),
        (69.65, "2027-06-21", "polar_day", 3.08),
        (69.65, "2027-12-21", "polar_night", None),
        (54.0, "2027-06-21", "no_astronomical_dark", None),
        (64.5, "2027-06-21", "no_civil_dark", None),
        (-43.98, "2027-03-17", "normal", None),
    ],
)
def test_the_named_states_of_a_night(
    lat: float, day: str, state: str, lowest: float | None
) -> None:
    night = plan_night(Place(lat, 18), dt.date.fromisoformat(day))
    assert night.state == state
    if lowest is not None:
        assert night.lowest_sun == pytest.approx(lowest, abs=0.01)
    if state == "polar_night":
        assert (night.sunrise, night.sunset) == (None, None)
        assert near(night.astronomical_dusk, "2027-12-21 15:59:47", 90)
        assert near(night.astronomical_dawn, "2027-12-22 05:32:32", 90)
    if state == "polar_day":
        assert night.dark == ()
        assert night.civil_dusk is None


@pytest.mark.parametrize(
    ("target", "rules", "state", "circumpolar"),
    [
        (Target(10, 80), Rules(), "open", True),
        (Target(10, -60), Rules(), "never_rises", False),
        (Target(10, -25), Rules(min_altitude=30), "too_low", False),
        (Target(222, 10), Rules(), "not_in_dark", False),
        (Target(350, 61), Rules(sun_below=-80), "not_in_dark", True),
    ],
)
def test_the_named_states_of_a_target(
    target: Target, rules: Rules, state: str, circumpolar: bool
) -> None:
    found = plan_night(A, NIGHT, target, rules).target
    assert found is not None
    assert (found.state, found.circumpolar) == (state, circumpolar)
    assert bool(found.windows) == (state == "open")


@settings(max_examples=25, deadline=None)
@given(
    st.floats(-80, 80),
    st.floats(-180, 180),
    st.dates(dt.date(1950, 1, 1), dt.date(2050, 12, 31)),
    st.floats(0, 359),
    st.floats(-85, 85),
    st.booleans(),
)
def test_windows_hold_what_they_promise(
    lat: float, lon: float, day: dt.date, ra: float, dec: float, moonless: bool
) -> None:
    night = plan_night(Place(lat, lon), day, Target(ra, dec), Rules(moon_down=moonless))
    path = night.track
    assert night.target is not None
    assert path.target is not None
    assert night.end - night.start == pytest.approx(1)
    inside = np.zeros(path.utc.shape, bool)
    for start, end in night.target.windows:
        assert (end - start) * 86400 >= 60
        inside |= (path.utc > start + 40 / 86400) & (path.utc < end - 40 / 86400)
    assert (path.sun[inside] < -17.9).all()
    assert (path.target[inside] > 19.9).all()
    if moonless:
        assert (path.moon[inside] < -0.8).all()
    season = plan_season(Place(lat, lon), day, day, Target(ra, dec), Rules(moon_down=moonless))[0]
    assert season.open_hours == pytest.approx(night.target.hours, abs=0.05)
    assert season.state == night.state
    assert season.lit == pytest.approx(night.moon.lit, abs=1e-6)
    for moment in (night.astronomical_dusk, night.sunset):
        if moment is not None:
            assert night.start <= moment <= night.end
    if night.state == "normal" and path.sun[0] > -0.8333:  # at the ends of a polar night it is not
        assert night.astronomical_dusk is not None
        assert night.sunset is not None


def test_which_night_it_is() -> None:
    place = Place(48.9, 14.3)

    def on(text: str) -> dt.date:
        return date_of(dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC), place)

    assert on("2027-11-05 21:00") == dt.date(2027, 11, 5)
    assert on("2027-11-06 03:00") == dt.date(2027, 11, 5)
    assert on("2027-11-06 09:00") == dt.date(2027, 11, 6)  # the Sun is up: the next one
    assert moment_of(at("2027-11-06 00:00")) == dt.datetime(2027, 11, 6, tzinfo=dt.UTC)


def test_what_cannot_be_planned_is_refused_in_words() -> None:
    for make, words in (
        (lambda: Place(91, 0), "no place on Earth"),
        (lambda: Target(0, 100), "no position"),
        (lambda: plan_night(A, dt.date(2060, 1, 1)), "from 1950 to 2050"),
        (lambda: Rules(min_altitude=95), "limits cannot be"),
        (lambda: plan_season(A, NIGHT, dt.date(2027, 11, 4)), "ends before it begins"),
        (lambda: plan_season(A, NIGHT, dt.date(2029, 11, 4)), "up to 400"),
    ):
        with pytest.raises(InputError, match=words):
            make()


def test_a_horizon_wraps_steps_and_comes_from_a_file(tmp_path: Path) -> None:
    horizon = make_horizon([(350, 10), (90, 40), (90, 10), (200, 20)])
    found = horizon.altitude(np.array([350.0, 360.0, 0.0, 40.0, 89.999, 90.0, 145.0]))
    np.testing.assert_allclose(found, [10, 13, 13, 25, 40, 10, 15], atol=0.01)
    path = tmp_path / "h.csv"
    path.write_text("# from the balcony\nazimuth_deg,altitude_deg\n350,10\n90,40\n90,10\n200,20\n")
    assert read_horizon(path) == horizon
    assert Horizon().altitude(np.array([5.0])) == 0
    for text, words in (
        ("a,b\n1,2\n", "header"),
        ("azimuth_deg,altitude_deg\n", "header"),
        ("azimuth_deg,altitude_deg\n1\n", "does not fit"),
        ("azimuth_deg,altitude_deg\n1,99\n", "out of range"),
    ):
        path.write_text(text)
        with pytest.raises(InputError, match=words):
            read_horizon(path)
    with pytest.raises(InputError, match="cannot be read"):
        read_horizon(tmp_path / "none.csv")


def test_airmass_and_moonlight() -> None:
    for altitude, wanted in ((30, 1.994), (10, 5.586), (0, 37.92)):
        assert airmass(altitude) == pytest.approx(wanted, rel=0.001)
    dark = dark_nanolamberts(79.0, 60)
    for phase, light, change in ((0, 1390, -3.06), (90, 126.5, -0.96)):
        found = moon_nanolamberts(phase, 30, 30, 60)
        assert found == pytest.approx(light, rel=0.01)
        assert -2.5 * np.log10((found + dark) / dark) == pytest.approx(change, rel=0.01)
    assert moon_nanolamberts(0, 95, 30, 60) == 0
    # Moon harms Ha a quarter to a third as much as O3 on a sky that is redder without it; here by
    # the moonlight alone
    o3, ha, s2 = (sky_factor(n, 21.5, 500.0) - 1 for n in ("O3", "Ha", "S2"))
    assert ha == pytest.approx(0.55 * o3)
    assert s2 == pytest.approx(0.96 * ha)
    assert sky_ab("O3", 21.5) > sky_ab("O3", 21.5, 500.0)
    assert nanolamberts(bortle_mag(1)) < nanolamberts(bortle_mag(9))
    with pytest.raises(InputError):
        bortle_mag(10)


def optics(wavelength: float) -> Optics:
    return Optics(100, 500, 3.76, 0.6, wavelength, 3.0, 1.5)


def test_rates_and_sub_lengths() -> None:
    assert photons_ab(0, 500.7) == pytest.approx(1.094e8, rel=0.002)
    assert photons_ab(0, 656.3) == pytest.approx(8.350e7, rel=0.002)
    assert optics(656.3).line_e_s(10) == pytest.approx(2.121e-3, rel=0.01)
    assert optics(656.3).surface_e_s(21) == pytest.approx(0.01131, rel=0.01)
    assert optics(500.7).surface_e_s(21) == pytest.approx(0.01482, rel=0.01)
    assert ideal_sub(1.5, 0.01, 0.05) == pytest.approx(2195, abs=1)
    assert ideal_sub(1.5, 0.01, 0.10) == pytest.approx(1071, abs=1)
    assert snr(0.02, 0.051, 1.6, 300, 40) == pytest.approx(7.77, rel=0.005)
    assert hours_for(20, 0.02, 0.051, 1.6, 300) == pytest.approx(22.09, rel=0.005)
    assert hours_for(20, 0.0, 0.051, 1.6, 300) is None


def test_what_limits_a_sub_and_its_price() -> None:
    free = advise_sub(1.5, 0.01)
    assert (free.limited_by, free.read_noise_penalty) == ("read_noise", pytest.approx(0.05))
    assert advise_sub(1.5, 0.01, cap_s=600).limited_by == "max_sub"
    assert advise_sub(1.5, 0.01, cap_s=600, saturates_at_s=90).sub_s == 90
    given_ = advise_sub(1.5, 0.01, given_s=300)
    assert given_.limited_by == "given"
    assert given_.read_noise_penalty == pytest.approx(np.sqrt(1 + 2.25 / 3) - 1)
    assert saturation_time(50_000, 0, 0, None, 100) == 500
    peak = saturation_time(50_000, 1000, 4000, 3.0, 1.0)
    sampled = np.exp(-0.5 * (np.linspace(-0.5, 0.5, 2001) / (3 / 2.355)) ** 2).mean()
    share = sampled**2 / (2 * np.pi * (3 / 2.355) ** 2)
    assert peak == pytest.approx(49_000 / (4000 * share + 1), rel=1e-4)
    for call in (
        lambda: advise_sub(1.5, 0.0),
        lambda: saturation_time(10, 20, 1, 2, 1),
        lambda: advise_sub(1, 1, 0),
        lambda: Optics(0, 500, 3.76, 0.6, 656, 3, 1.5),
        lambda: Optics(100, 500, 3.76, 1.2, 656, 3, 1.5),
    ):
        with pytest.raises(InputError):
            call()


def test_frames_and_mosaics() -> None:
    found = frame(650, 3.76, (23.5, 15.7), target=(3.5, 2.4), overlap=0.15, fwhm_arcsec=3.0)
    assert found.field == (pytest.approx(2.071, abs=0.002), pytest.approx(1.384, abs=0.002))
    assert found.scale_arcsec == pytest.approx(1.193, abs=0.001)
    assert found.panels == (2, 2)
    assert found.verdict == "good"
    assert frame(650, 3.76, (23.5, 15.7), binning=2, fwhm_arcsec=3).verdict == "under"
    assert panels_for(2.0, 2.0, 0.15) == 1
    assert panels_for(3.7, 2.0, 0.15) == 2
    assert panels_for(3.71, 2.0, 0.15) == 3
    assert extent_of((4, 2), 90) == (pytest.approx(2), pytest.approx(4))
    assert extent_of((4, 2), 30, box=True)[0] == pytest.approx(4 * np.cos(np.pi / 6) + 1)
    turn = np.linspace(0, 2 * np.pi, 20001)
    x, y = 2 * np.cos(turn), np.sin(turn)
    along = np.cos(np.deg2rad(30)) * x + np.sin(np.deg2rad(30)) * y
    assert extent_of((4, 2), 30)[0] == pytest.approx(np.ptp(along), abs=1e-6)
    centres = panel_centres(found, 0.15, 24.0)
    assert len(centres) == 4
    steps = np.hypot(*(np.array(centres[1]) - np.array(centres[0])))
    assert steps == pytest.approx(found.field[0] * 0.85)
    ra, dec = from_plane(171.0, -59.0, 0.5, 0.3)
    assert dec == pytest.approx(-59 + 0.3, abs=0.01)
    assert (ra - 171) * np.cos(np.deg2rad(dec)) == pytest.approx(0.5, abs=0.002)


@settings(max_examples=30, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.floats(0.5, 3),
            st.floats(0.5, 3),
            st.floats(0, 180),
            st.floats(-1, 1),
            st.floats(-1, 1),
        ),
        min_size=2,
        max_size=3,
    )
)
def test_the_common_field_is_what_a_grid_of_points_says(rigs: list[tuple[float, ...]]) -> None:
    fields = [Field(str(n), w, h, a, (e, m)) for n, (w, h, a, e, m) in enumerate(rigs)]
    grid = np.stack(np.meshgrid(np.linspace(-3, 3, 301), np.linspace(-3, 3, 301)), -1)
    inside = np.ones(grid.shape[:2], bool)
    for f in fields:
        turn = np.deg2rad(f.angle)
        moved = grid - np.array(f.offset)
        along = moved @ np.array([np.sin(turn), np.cos(turn)])
        across = moved @ np.array([np.cos(turn), -np.sin(turn)])
        inside &= (np.abs(along) <= f.width / 2) & (np.abs(across) <= f.height / 2)
    shared = common_field(fields)
    assert (area(shared) if shared else 0.0) == pytest.approx(inside.mean() * 36.12, abs=0.15)


def test_filters_in_a_fast_beam() -> None:
    fast = filter_shift(2, (500.7,), 500.7, 3, 2)
    assert fast.edge_nm == pytest.approx(-3.93, abs=0.01)
    assert fast.transmission == pytest.approx(0.383, abs=0.005)
    assert filter_shift(2, (500.7,), 500.7, 3, 2, 0.45).transmission == pytest.approx(
        0.226, abs=0.005
    )
    assert filter_shift(3.6, (656.3,), 656.3, 3, 2).transmission == pytest.approx(0.947, abs=0.005)
    assert filter_shift(50, (656.3,), 656.3, 3, 2, shape="gauss").transmission == pytest.approx(
        1, abs=1e-3
    )
    tilted = filter_shift(5, (500.7,), 500.7, 3, 2, chief_ray_deg=8.0)
    assert tilted.transmission < filter_shift(5, (500.7,), 500.7, 3, 2).transmission
    assert tilted.mean_nm == filter_shift(5, (500.7,), 500.7, 3, 2).mean_nm
    pair = filter_shift(30, S2_PAIR_NM, 672.4, 1.0, 2).transmission
    assert pair == pytest.approx(0.0, abs=0.01)  # a 1 nm filter between the two lines sees neither
    with pytest.raises(InputError):
        filter_shift(2, (500.7,), 500.7, 3, 2, shape="round")


def test_corners_and_glass() -> None:
    assert corner_light(34, 28.3, 20, 2) == pytest.approx(0.822, abs=0.005)
    assert corner_light(60, 28.3, 20, 2) == 1
    assert corner_light(10, 60, 20, 4) == 0
    assert clear_needed(28.3, 20, 2) == pytest.approx(38.3)
    assert focus_shift(3, 1.5168) == pytest.approx(1.022, abs=0.001)


def wants(rng: np.random.Generator, windows: list[Window], count: int) -> list[Want]:
    return [
        Want(
            f"c{n}",
            float(rng.uniform(5, 40)),
            float(rng.uniform(0.002, 0.05)),
            1.6,
            300.0,
            {w.name: float(rng.uniform(0.005, 0.2)) for w in windows if rng.uniform() < 0.8},
            float(rng.uniform(0, 6)),
            0.001,
            25.0,
        )
        for n in range(count)
    ]


@pytest.mark.parametrize("seed", range(12))
def test_no_even_split_does_better_for_the_channel_furthest_behind(seed: int) -> None:
    rng = np.random.default_rng(seed)
    windows = [
        Window(f"w{n}", float(rng.uniform(0, 6)), float(rng.uniform(0.5, 1))) for n in range(3)
    ]
    channels = wants(rng, windows, 3)
    found = allocate(windows, channels)
    for w in windows:
        assert sum(found.hours[w.name].values()) <= w.open_hours + 1e-6

    def smallest(split: dict[str, list[float]]) -> float:
        return min(
            min(
                (
                    c.had_snr**2
                    + sum(split[w.name][k] * w.open_hours * c.rate(w.name) for w in windows)
                )
                / c.goal_snr**2,
                1.0,
            )
            for k, c in enumerate(channels)
        )

    assert found.share >= smallest({w.name: [1 / 3] * 3 for w in windows}) - 1e-6
    steps = [(a, b, 6 - a - b) for a in range(7) for b in range(7 - a)]
    best = max(
        smallest({w.name: [v / 6 for v in s] for w, s in zip(windows, pick, strict=True)})
        for pick in itertools.product(steps, repeat=3)
    )
    assert found.share >= best * 0.99  # nothing on a grid of splits beats it


def test_a_window_may_be_barred_and_a_goal_reached() -> None:
    dark, moon = Window("dark", 2, 0.9), Window("moon", 3, 0.9)
    o3 = Want("O3", 50, 0.01, 1.6, 300, {"dark": 0.01})
    ha = Want("Ha", 20, 0.05, 1.6, 300, {"dark": 0.01, "moon": 0.02}, had_snr=25)
    found = allocate([dark, moon], [o3, ha])
    assert found.shares["Ha"] == 1
    assert found.hours["moon"] == {}
    assert found.hours["dark"] == {"O3": pytest.approx(1.8)}
    # an hour that brings nothing more is not used, and the early window comes first
    rest = allocate(
        [Window(f"n{n}", 8.0) for n in range(12)],
        [Want("S2", 12, 0.01, 1.6, 300, {f"n{n}": 0.02 for n in range(12)}, had_snr=11.5)],
    )
    assert rest.share == pytest.approx(1)
    used = {n: sum(h.values()) for n, h in rest.hours.items() if h}
    assert list(used) == ["n0"]
    assert used["n0"] < 1.5
    none = allocate([Window("none", 0)], [Want("O3", 10, 0.01, 1.6, 300, {"none": 0.1})])
    assert none.share == 0
    assert any("cannot be shot" in w for w in none.warnings)
    for bad in ([o3, o3], [Want("x", 0, 1, 1, 1, {})], [Want("x", 5, 1, 1, 1, {"sky": 1.0})], []):
        with pytest.raises(InputError):
            allocate([dark, moon], bad)
    with pytest.raises(InputError):
        allocate([Window("dark", -1)], [ha])
    assert isinstance(plan_night(A, NIGHT), Night)


def test_sun_and_moon_between_the_nodes_are_those_at_the_moment() -> None:
    first = 2461200
    found = ephemeris(first, first + 40)
    utc = np.random.default_rng(4).uniform(first, first + 40, 300)
    turned = true_of_date(tt_of(utc))
    for between, exact in (
        (found.sun(utc), sun_at(tt_of(utc))[0]),
        (found.moon(utc), moon_at(tt_of(utc))),
    ):
        at = np.einsum("nij,nj->ni", turned, exact)
        off = np.linalg.norm(unit(between) - unit(at), axis=1)
        assert np.degrees(off.max()) * 3600 < 0.001

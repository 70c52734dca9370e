"""Worth of subs, light budgets, hours shared out over coming nights: against plain formulations,
published figures and sums by hand.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import numpy as np
import pytest
import scipy

from bichromus.core.model.errors import InputError
from bichromus.core.plan.budget import (
    BandFilter,
    Glow,
    LightRig,
    PassBand,
    SkyNow,
    extinction,
    light_budget,
)
from bichromus.core.plan.clear_nights import likely_nights
from bichromus.core.plan.earth import Place
from bichromus.core.plan.horizon import make_horizon
from bichromus.core.plan.kinds import KINDS
from bichromus.core.plan.month import usable_hours
from bichromus.core.plan.night import Rules, Target
from bichromus.core.plan.objects import every_object, named
from bichromus.core.plan.season import plan_season, season_of
from bichromus.core.plan.sharing import (
    Band,
    Goal,
    OpenWindow,
    Shared,
    Wanted,
    rate_of,
    share_out,
)
from bichromus.core.plan.sky import V_NM, photons_v
from bichromus.core.plan.twilight import twilight_photons
from bichromus.core.plan.worth import LENGTHS_S, Worth


@pytest.mark.parametrize("seed", range(8))
def test_the_length_of_a_sub_is_the_shortest_that_is_worth_its_while(seed: int) -> None:
    rng = np.random.default_rng(seed)
    least, most = float(rng.choice([1, 8, 25])), float(rng.choice([400, 900, 3600]))
    w = Worth(
        float(10 ** rng.uniform(-3, 1)),
        float(rng.uniform(0.8, 8)),
        float(rng.uniform(0, 30)),
        float(rng.choice([0, 0.5, 6])),
        least,
        most,
    )
    every = np.geomspace(least, most, 20_001)
    hours = every / 3600
    plain = np.exp(-w.lost_per_hour * hours) * every**2
    plain /= (w.light_e_s * every + w.read_noise_e**2) * (every + w.overhead_s)
    assert w.at(w.best()) == pytest.approx(plain.max(), rel=1e-6)
    lengths = [least, *(t for t in LENGTHS_S if least < t < most), most]
    good = [t for t in lengths if w.at(t) >= 0.97 * plain.max()]
    assert w.advised() == (good[0] if good else w.best())
    assert w.share(w.advised()) >= 0.97 - 1e-6


def test_a_sub_cannot_be_shorter_than_its_shortest() -> None:
    with pytest.raises(InputError, match="shortest is 300 s"):
        Worth(0.1, 1.5, 5.0, 0.5, 300, 60)


Bands = dict[tuple[str, str, str], dict[str, Band]]


def random_case(seed: int) -> tuple[list[OpenWindow], list[Wanted], Bands]:
    rng = np.random.default_rng(seed)
    filters = {"duo": ("Ha", "O3"), "Ha": ("Ha",), "O3": ("O3",), "S2": ("S2",)}
    windows = [
        OpenWindow(f"{rig}{n}", rig, float(rng.uniform(0, 5)), 0.9, float(rng.uniform(0.2, 1)))
        for n in range(5)
        for rig in "AB"
    ]
    wanted = [
        Wanted(
            f"T{t}",
            {c: Goal(float(rng.uniform(10, 60)), 5.0) for c in ("Ha", "O3", "S2")},
            float(rng.choice([1, 2, 3])),
        )
        for t in range(3)
    ]
    bands = {
        (w.name, t.name, f): {
            c: Band(float(rng.uniform(0.001, 0.02)), float(rng.uniform(0.005, 0.2)), 1.5)
            for c in channels
        }
        for w in windows
        for t in wanted
        for f, channels in filters.items()
        if rng.random() < 0.7
    }
    return windows, wanted, bands


@pytest.mark.parametrize("seed", range(6))
def test_hours_are_shared_as_a_plain_program_shares_them(seed: int) -> None:
    windows, wanted, bands = random_case(seed)
    rates = [rate_of(*where, 300.0, b) for where, b in bands.items()]
    found = share_out(windows, wanted, rates)
    # variables: hours, then the share of each target; every row written out
    n, m = len(rates), len(wanted)
    rows, limits = [], []
    for w in windows:
        rows.append([float(r.window == w.name) for r in rates] + [0.0] * m)
        limits.append(w.hours * w.efficiency * w.clear)
    for number, t in enumerate(wanted):
        for c, g in t.channels.items():
            gain = [0.0] * n
            for k, r in enumerate(rates):
                b = bands[r.window, r.target, r.filter].get(c)
                if r.target == t.name and b is not None:
                    gain[k] = 3600 * b.target_e_s**2
                    gain[k] /= b.target_e_s + b.sky_e_s + b.read_noise_e**2 / 300
            rows.append([-q for q in gain] + [0.0] * m)
            rows[-1][n + number] = g.goal_snr**2
            limits.append(g.had_snr**2)
    aim = np.array([0.0] * n + [-t.priority for t in wanted])
    bounds = [(0, None)] * n + [(0, 1)] * m
    best = -scipy.optimize.linprog(aim, rows, limits, bounds=bounds).fun
    ours = sum(t.priority * found.share(t.name) for t in wanted)
    assert ours == pytest.approx(best, rel=1e-6)
    for w in windows:
        used = sum(u.hours for u in found.uses[w.name])
        assert used <= w.open_hours * (1 + 1e-12)


def shot(found: Shared) -> dict[tuple[str, str], float]:
    return {(w, u.filter): u.hours for w, uses in found.uses.items() for u in uses}


def test_both_lines_of_a_dual_band_filter_count_in_the_same_hour() -> None:
    band = Band(0.01, 0.02, 0.0)
    q = 3600 * 0.01**2 / 0.03  # SNR squared an hour, by hand
    rates = [
        rate_of("w", "T", "duo", 300, {"Ha": band, "O3": replace(band, pixels=0.5)}),
        rate_of("w", "T", "S2", 300, {"S2": band}),
    ]
    goals = {"Ha": Goal((6 * q) ** 0.5), "O3": Goal((4 * q) ** 0.5), "S2": Goal((2 * q) ** 0.5)}
    # O3 wants 8 hours, Ha has had enough after 6, S2 wants 2
    found = share_out([OpenWindow("w", "A", 20.0)], [Wanted("T", goals)], rates)
    assert shot(found) == {
        ("w", "duo"): pytest.approx(8, rel=1e-5),
        ("w", "S2"): pytest.approx(2, rel=1e-5),
    }
    half = share_out([OpenWindow("w", "A", 10.0, 1.0, 0.5)], [Wanted("T", goals)], rates)
    assert half.share("T") == pytest.approx(0.5, rel=1e-6)  # a night that may be clouded counts so


def test_a_full_moon_is_for_ha_unless_ha_is_done() -> None:
    dark = {"Ha": Band(0.01, 0.01, 1.5), "O3": Band(0.005, 0.01, 1.5)}
    lit = {"Ha": Band(0.01, 0.05, 1.5), "O3": Band(0.005, 0.2, 1.5)}
    windows = [OpenWindow("full Moon", "A", 8.0), OpenWindow("new Moon", "A", 8.0)]
    rates = [
        rate_of(w, "T", c, 300, {c: bands[c]})
        for w, bands in (("full Moon", lit), ("new Moon", dark))
        for c in ("Ha", "O3")
    ]
    goals = {"Ha": Goal(18.0), "O3": Goal(10.0)}
    found = shot(share_out(windows, [Wanted("T", goals)], rates))
    assert found["full Moon", "Ha"] > 4
    assert ("full Moon", "O3") not in found
    done = {**goals, "Ha": Goal(18.0, 18.0)}
    found = shot(share_out(windows, [Wanted("T", done)], rates))
    assert set(found) == {("new Moon", "O3"), ("full Moon", "O3")}


def test_what_no_filter_serves_holds_nothing_back_and_is_named() -> None:
    rates = [rate_of("w", "T", "Ha", 300, {"Ha": Band(0.02, 0.01, 1.5)})]
    goals = {"Ha": Goal(10.0), "S2": Goal(10.0, 4.0)}
    found = share_out([OpenWindow("w", "A", 5.0)], [Wanted("T", goals)], rates)
    assert found.shares["T"] == {"Ha": pytest.approx(1), "S2": pytest.approx(0.16)}
    assert found.warnings == ("No filter serves S2 of T: it keeps what it has.",)


@pytest.mark.parametrize(("depression", "factor"), [(7, 604), (12, 5.9), (15, 1.29), (18, 1.0)])
def test_twilight_brightens_a_dark_sky_by_published_factors(
    depression: float, factor: float
) -> None:
    night = photons_v(21.6) * V_NM / 500.7  # the dark sky of the source, at O3
    added, at_15, at_16 = twilight_photons("O3", np.array([depression, 15.0, 16.0]), 500.7)
    assert 1 + added / night == pytest.approx(factor, rel=0.01)
    assert at_16 == pytest.approx(at_15 * 10**-0.44, rel=1e-6)


FAST = LightRig(100, 200, 3.76, 0.9, 0.8, 1.5, dark_e_s=0.001)
HA, O3 = PassBand("Ha", 656.3, 3, 0.92), PassBand("O3", 500.7, 3, 0.92)


def test_a_budget_is_the_sum_of_what_it_is_made_of() -> None:
    sky = SkyNow(21.6, 50.0, 1.7, 0.2, 13.0, (30.0, 70.0, 20.0))
    camera = replace(FAST, colour=True)
    found = light_budget(camera, BandFilter("duo", (HA, O3)), Glow({"Ha": 20, "O3": 8}), sky)
    for light in found.channels.values():
        assert light.sky_e_s == pytest.approx(sum(light.sky_parts.values()))
        assert min(light.sky_parts.values()) > 0
        assert light.sky_parts["glow"] == pytest.approx(0.7 * light.sky_parts["natural"])
    ha, o3 = found.channels["Ha"], found.channels["O3"]
    assert (ha.pixel_share, o3.pixel_share) == (0.25, 0.75)
    # moonlight per nm at Ha is 0.55 of that at O3, of which the pixels take 0.77
    assert ha.sky_parts["moon"] / o3.sky_parts["moon"] == pytest.approx(0.55 / 0.77, rel=1e-6)
    mono = light_budget(FAST, BandFilter("O3", (O3,)), Glow({"O3": 8}), sky).channels["O3"]
    assert mono.pixel_share == 1
    assert o3.target_e_s == pytest.approx(0.77 * mono.target_e_s)


def test_a_fast_beam_takes_from_the_line_and_not_from_the_sky() -> None:
    sky, target = SkyNow(21.0, 90.0, extinction_v=0.0), Glow({"O3": 10})
    plain = light_budget(FAST, BandFilter("O3", (O3,)), target, sky).channels["O3"]
    moved = light_budget(FAST, BandFilter("O3", (O3,), 2.0), target, sky).channels["O3"]
    assert moved.transmission == pytest.approx(0.383, abs=0.005)  # METHOD 9: 3 nm, n 2, f/2
    assert moved.target_e_s == pytest.approx(plain.target_e_s * moved.transmission)
    assert moved.sky_e_s == plain.sky_e_s


def test_air_dims_blue_more_than_red_and_as_told_in_the_middle() -> None:
    assert extinction(550, 0.25) == pytest.approx(0.25)
    assert extinction(486, 0.25) > 0.25 > extinction(672, 0.25)
    assert extinction(550, 0.05) == pytest.approx(0.05)
    assert extinction(500, 0.0) == 0.0
    low, high = SkyNow(21, 30.0), SkyNow(21, 90.0)
    one, two = (
        light_budget(FAST, BandFilter("Ha", (HA,)), Glow({"Ha": 20}), s).channels["Ha"]
        for s in (low, high)
    )
    away = -2.5 * np.log10(one.target_e_s / two.target_e_s)
    assert away == pytest.approx(extinction(656.3) * (1.994 - 1), rel=0.002)


def test_a_mono_camera_parts_no_two_bands_and_nothing_is_shot_beside_the_sun() -> None:
    found = light_budget(FAST, BandFilter("duo", (HA, O3)), Glow({"Ha": 20}), SkyNow(21, 60.0))
    assert found.channels == {}
    assert "cannot part Ha and O3 behind duo" in found.warnings[0]
    dusk = SkyNow(21, 60.0, sun_depression_deg=3.0)
    assert "3.0° down" in light_budget(FAST, BandFilter("Ha", (HA,)), Glow(), dusk).warnings[0]


@pytest.mark.parametrize("horizon", [(), ((0, 10), (90, 45), (180, 5), (270, 30))])
def test_hours_of_many_targets_are_those_of_each_by_itself(
    horizon: tuple[tuple[float, float], ...],
) -> None:
    place, first = Place(-43.98, 170.46, 720), dt.date(2027, 3, 5)
    rules = Rules(25.0, -18.0, False, make_horizon(horizon))
    rng = np.random.default_rng(2)
    ra, dec = rng.uniform(0, 360, 12), np.degrees(np.arcsin(rng.uniform(-1, 0.6, 12)))
    nights = [first + dt.timedelta(days=n) for n in range(9)]
    found = usable_hours(place, nights, rules, ra, dec)
    for n in range(len(ra)):
        one = plan_season(place, nights[0], nights[-1], Target(ra[n], dec[n]), rules)
        assert found.open[n] == pytest.approx(sum(s.open_hours for s in one), abs=0.05 * 9)
        moonless = sum(s.open_moonless_hours for s in one)
        assert found.moonless[n] == pytest.approx(moonless, abs=0.05 * 9)


def test_objects_are_found_by_all_their_names() -> None:
    for text in ("M 83", "m83", "Messier 83", "NGC 5236", "southern pinwheel galaxy"):
        found = named(text)
        assert found is not None
        assert found.ids == ("M 83", "NGC 5236"), text
    spiral = named("C 77")
    assert spiral is not None
    assert spiral.ids == ("NGC 5128", "C 77")
    assert named("caldwell 77") is spiral
    assert named("NGC 99999") is None
    assert named("M 6").kind == "cluster"  # type: ignore[union-attr]
    assert named("IC 2944").size_arcmin == (75, 60)  # type: ignore[union-attr]
    assert {o.kind for o in every_object()} == set(KINDS)


@pytest.mark.parametrize(("clear", "chance"), [(1, 0.4), (3, 0.4), (7, 0.25), (5, 1.0), (2, 0.05)])
def test_nights_until_enough_were_clear_are_those_of_the_dice(clear: int, chance: float) -> None:
    rng = np.random.default_rng(9)
    took = clear + rng.negative_binomial(clear, chance, 200_000)
    first, last = likely_nights(clear, chance)
    assert (took <= first).mean() >= 0.095 > (took <= first - 1).mean() - 0.01
    assert (took <= last).mean() >= 0.895 > (took <= last - 1).mean() - 0.01
    assert likely_nights(0, chance) == (0, 0)
    with pytest.raises(InputError, match="cannot be counted"):
        likely_nights(clear, 0.0)


def test_a_season_ends_where_the_hours_of_its_nights_end() -> None:
    place, target, rules = Place(-43.98, 170.46, 720), Target(171.0, -59.1667), Rules(25.0)
    found = season_of(place, dt.date(2027, 3, 1), target, rules)
    assert found is not None
    nights = plan_season(place, found.first, found.last + dt.timedelta(days=3), target, rules)
    hours = [n.open_hours or 0.0 for n in nights]
    assert min(hours[:-3]) >= 0.95
    assert hours[-3] < 1.05 > hours[-1]
    assert season_of(place, dt.date(2027, 3, 1), Target(200.0, 70.0), rules) is None
    assert season_of(place, dt.date(2027, 3, 1), Target(200.0, -89.0), rules) is None

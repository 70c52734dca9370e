"""The plan: orders, forecast, sub lengths, the coming nights, blocks, and tonight's sentence."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from itertools import groupby, pairwise
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.advise.tonight import advise_tonight
from bichromus.core.model.channel import WAVELENGTH_NM
from bichromus.core.model.errors import InputError
from bichromus.core.plan.budget import BandFilter, Glow, LightRig, PassBand
from bichromus.core.plan.coming import NIGHTS, Coming, Weather, plan_coming
from bichromus.core.plan.dates import moment_of
from bichromus.core.plan.earth import Place
from bichromus.core.plan.night import Rules, Target
from bichromus.core.plan.order import Overheads, cost, run_through, sequence
from bichromus.core.plan.station import Aim, Demand, SiteSky, Station
from bichromus.core.plan.through import dark_path
from bichromus.core.plan.tonight import gained
from bichromus.core.plan.worth import LENGTHS_S
from bichromus.core.simulate.forecast import read_forecast, simulate_forecast

RIDGE = Place(-43.98, 170.46, 720)
WEAVERBIRD = Target(171.0, -59.1667)


def test_orders_hold_every_sub_and_cost_what_they_cost() -> None:
    subs = {"Ha": 30, "O3": 30, "S2": 30}
    lengths = dict.fromkeys(subs, 300.0)
    assert sequence({"a": 2, "b": 1}, None) == ["a", "a", "b"]
    assert sequence({"a": 3, "b": 1}, 2) == ["a", "a", "b", "a"]
    shots = run_through(sequence(subs, 3), lengths, Overheads())
    assert len(shots) == 90
    assert all(b.start_s >= a.end_s for a, b in zip(shots, shots[1:], strict=False))
    block, cycle, refocused = (
        cost(subs, lengths, every, Overheads(focus_offsets=offsets))
        for every, offsets in ((None, True), (3, True), (1, False))
    )
    # block 0.915 / 0.153, cycle every 3 with focus offsets 0.90 / 0.425, every 1 with refocus 0.60
    # / 0.29, of the
    # usable time; completeness here is of the plan's own length, hence a little higher
    assert block.open_share == pytest.approx(0.915, abs=0.02)
    assert cycle.open_share == pytest.approx(0.90, abs=0.02)
    assert refocused.open_share == pytest.approx(0.60, abs=0.05)
    assert block.completeness == pytest.approx(0.153 / 0.915, abs=0.02)
    assert cycle.completeness == pytest.approx(0.425 / 0.90, abs=0.03)
    assert cost({}, {}, None).open_share == 1


def test_the_forecast_is_the_same_for_the_same_night_and_can_be_given(tmp_path: Path) -> None:
    start = dt.datetime(2027, 3, 17, 0, 38, tzinfo=dt.UTC)
    one, again = simulate_forecast(-43.98, 170.46, start), simulate_forecast(-43.98, 170.46, start)
    assert one == again
    assert one.simulated
    assert one != simulate_forecast(-43.98, 170.46, start + dt.timedelta(days=1))
    assert all(0 <= h.cloud <= 1 and 0 <= h.humidity <= 1 for h in one.hours)
    clear = sum(
        simulate_forecast(0, 0, start + dt.timedelta(days=n)).words.startswith(("clear", "mostly"))
        for n in range(60)
    )
    assert 10 < clear < 50
    path = tmp_path / "f.csv"
    path.write_text(
        "time_utc,cloud,humidity\n2027-03-17T10:00:00Z,0.9,0.5\n2027-03-17T09:00:00Z,0.1,0.95\n"
    )
    mine = read_forecast(path)
    assert not mine.simulated
    assert mine.cloud_at(dt.datetime(2027, 3, 17, 10, 30, tzinfo=dt.UTC)) == 0.9
    assert mine.cloud_at(dt.datetime(2027, 3, 18, tzinfo=dt.UTC)) == 0
    assert mine.words == "clouds in part, humid"
    for text in (
        "time_utc,cloud\n",
        "time_utc,cloud\nx,0.1\n",
        "time_utc,cloud\n2027-03-17T10:00:00Z,7\n",
        "a,b\n1,2\n",
    ):
        path.write_text(text)
        with pytest.raises(InputError, match="not usable"):
            read_forecast(path)


def station(name: str = "Ridge", **more: object) -> Station:
    """An 80 mm mono refractor with three narrow filters under a dark sky, or what is given."""
    rig = LightRig(80, 440, 3.76, 0.85, 0.8, 1.5, dark_e_s=0.002)
    usual: dict[str, object] = {
        "rig": rig,
        "filters": tuple(narrow(c) for c in ("Ha", "O3", "S2")),
        "place": RIDGE,
        "sky": SiteSky(21.6),
        "fwhm_px": 2.84,
        "full_well_e": 50_000.0,
        "longest_s": 600.0,
    }
    return Station(name, name, **{**usual, **more})  # type: ignore[arg-type]


def narrow(*channels: str) -> BandFilter:
    bands = tuple(PassBand(c, WAVELENGTH_NM[c], 3.0, 0.92) for c in channels)
    return BandFilter("+".join(channels), bands, 2.0, "flat")


def broad(channel: str) -> BandFilter:
    return BandFilter(channel, (PassBand(channel, WAVELENGTH_NM[channel], 90.0, 0.92),))


def aim(name: str = "Weaverbird Nebula", target: Target = WEAVERBIRD, **demands: Demand) -> Aim:
    wanted = demands or {c: Demand() for c in ("Ha", "O3", "S2")}
    glow = Glow({"Ha": 100.0, "O3": 18.0, "S2": 13.0}, dict.fromkeys("LRGB", 23.5))
    return Aim(name, target, glow, wanted)


NIGHT = dt.date(2027, 3, 17)  # the Moon, 71 %, sets in the middle of it
FULL = dt.date(2027, 3, 22)


def planned(
    *stations: Station,
    aims: tuple[Aim, ...] = (),
    date: dt.date = NIGHT,
    every: int | None = None,
    weather: Weather | None = None,
    nights: int = NIGHTS,
    since: float | None = None,
    current: tuple[str, str] | None = None,
) -> Coming:
    return plan_coming(
        stations or (station(),),
        aims or (aim(),),
        date,
        weather or Weather(),
        nights,
        every,
        since,
        current,
    )


def test_sub_lengths_and_hours_wanted_follow_from_sky_and_target() -> None:
    ha, o3, s2 = planned().channels["Weaverbird Nebula"]
    assert ha.wanted_h < o3.wanted_h < s2.wanted_h
    assert ha.stack_snr == pytest.approx(15, rel=0.02)
    assert o3.sub.limited_by == "max_sub"
    assert o3.sub_snr < ha.sub_snr
    town = planned(station(sky=SiteSky(18.5))).channels["Weaverbird Nebula"][1]
    assert (town.sub.ideal_s or 0) < (o3.sub.ideal_s or 0)
    assert town.wanted_h > o3.wanted_h
    held = planned(aims=(aim(S2=Demand(8.0, 10.0)),)).channels["Weaverbird Nebula"]
    assert [c.missing_h for c in held] == [2.0]


def test_broad_filters_get_subs_that_keep_the_shutter_open() -> None:
    lit = station(filters=(broad("L"),), sky=SiteSky(19.5))
    found = planned(lit, aims=(aim(L=Demand()),)).throughs[0]
    assert found.sub.limited_by == "worth"
    assert found.sub.sub_s / (found.sub.sub_s + 12) > 0.85
    assert found.sub.saturates_at_s is not None
    assert found.sub.saturates_at_s < found.sub.sub_s  # full stars are told, and set no length
    assert found.worth.share(found.sub.sub_s) >= 0.97


def test_a_core_that_must_survive_is_offered_a_short_set() -> None:
    galaxy = replace(aim(L=Demand()), core_times=10 ** (0.4 * 12))
    wide = station(filters=(broad("L"),))
    plain, kept = (planned(wide, aims=(a,)).throughs[0] for a in (aim(L=Demand()), galaxy))
    assert plain.core_s is None
    assert kept.core_s is not None
    assert kept.sub == plain.sub  # the long set stays as it is
    target, sky = (float(v[0]) for v in kept.light(dark_path(wide, galaxy))["L"])
    rate = target * 10 ** (0.4 * 12) + sky + 0.002
    assert rate * kept.core_s <= 50_000 / 2
    longer = next(t for t in LENGTHS_S if t > kept.core_s)
    assert rate * longer > 50_000 / 2
    faint = replace(galaxy, core_times=2.0)
    assert planned(wide, aims=(faint,)).throughs[0].core_s is None


def test_three_short_sets_are_shot_whole_and_in_turns_or_said_to_be_left_out() -> None:
    colours = station(filters=(*(narrow(c) for c in ("O3", "S2")), *map(broad, "RGB")))
    goals = aim(O3=Demand(), S2=Demand(), **{c: Demand(0.0, 0.6) for c in "RGB"})
    made = planned(colours, aims=(goals,))
    assert made.left_out == ()
    lane = made.lanes[0]
    small = [b for b in lane.blocks if b.filter in "RGB"]
    for name in "RGB":
        assert sum(b.hours for b in small if b.filter == name) >= 0.6 - 0.05
    assert [b.filter for b in small] == ["R", "G", "B"] * 2
    dark = next(s for s in lane.stretches if not s.moonlit)
    assert min(b.start for b in small) >= dark.start - 1e-9  # under the better sky
    between = [b for b in lane.blocks if small[0].end < b.start < small[-1].start]
    assert {b.filter for b in between} <= set("RGB")  # in one stretch
    start = lane.stretches[0].start
    short = station(
        filters=colours.filters, awake={NIGHT: (start, start + 1.0 / 24)}, sky=SiteSky(20.0)
    )
    left = planned(short, aims=(goals,)).left_out
    assert [c for sets in left for c in sets.counts]


def test_twilight_is_no_dark_sky() -> None:
    early = planned(station(rules=Rules(sun_below=-7.0))).lanes[0]
    twilit = [
        (s, c)
        for s, c in zip(early.stretches, early.curves, strict=True)
        if c.paths["Weaverbird Nebula"].sun_down.max() < 17.9
    ]
    assert twilit
    assert max(s.hours for s, _ in twilit) <= 0.25 + 1e-6
    usable = sum(s.hours for s in early.stretches)
    about = early.nights["Weaverbird Nebula"].target
    assert about is not None
    assert usable == pytest.approx(about.hours, abs=0.3)
    brightest = min(twilit, key=lambda one: one[1].paths["Weaverbird Nebula"].sun_down.min())
    assert ("Weaverbird Nebula", "O3") not in brightest[1].gains  # not worth an exposure
    alone = planned().lanes[0]
    hours = [sum(b.hours for b in lane.blocks) for lane in (early, alone)]
    assert hours[0] >= hours[1]  # no piece wastes part of a sub
    said = advise_tonight(planned(station(rules=Rules(sun_below=-7.0))), aim(), clock)
    moon_sets = next(s.end for s in reversed(early.stretches) if s.moonlit)
    assert said is not None
    assert f"until {clock(moon_sets)}" in said.sentence


def test_the_night_is_cut_by_moon_cloud_and_own_hours() -> None:
    lane = planned().lanes[0]
    night = lane.nights["Weaverbird Nebula"]
    assert [s.moonlit for s in lane.stretches] == [True, False]
    assert moment_of(lane.stretches[0].end) == moment_of(night.moon.set or 0)
    start, end = lane.stretches[0].start, lane.stretches[-1].end
    dark = lane.stretches[1].start
    cloudy = ((start - 1, start + 1 / 24), (dark + 0.05, dark + 0.10))
    clouded = planned(weather=Weather(cloudy=cloudy)).lanes[0]
    lost = (end - start) * 24 - sum(s.hours for s in clouded.stretches)
    assert lost == pytest.approx(2.2, abs=0.02)
    bed = planned(station(awake={NIGHT: (start - 1, start + 2 / 24)})).lanes[0]
    assert max(b.end for b in bed.blocks) <= start + 2 / 24 + 1e-9
    assert planned(station(rules=Rules(min_altitude=89.0))).lanes[0].stretches == ()


def test_blocks_lie_in_their_stretches_and_use_the_dark_for_o3() -> None:
    found = planned()
    lane = found.lanes[0]
    moonset = lane.nights["Weaverbird Nebula"].moon.set or 0
    for block in lane.blocks:
        home = next(s for s in lane.stretches if s.start - 1e-9 <= block.start < s.end)
        assert block.end <= home.end + 1e-9
        assert block.end - block.start >= block.subs * block.sub_s / 86400 - 1e-9
    for one, two in pairwise(lane.blocks):
        assert two.start >= one.end
    o3 = [b for b in lane.blocks if b.filter == "O3"]
    assert sum(b.hours for b in o3 if b.start >= moonset - 1e-9) >= sum(b.hours for b in o3) / 2
    plans = {c.channel: c for c in found.channels["Weaverbird Nebula"]}
    for (_, channel), squares in gained(found.lanes).items():
        hours = sum(b.hours for b in lane.blocks if channel in b.channels)
        assert 0 < squares / plans[channel].per_hour <= hours * (1 + 1e-9)
    turns = planned(every=3).lanes[0]
    assert len(turns.blocks) > len(lane.blocks)
    done = planned(aims=(aim(**{c: Demand(99.0, 9.0) for c in ("Ha", "O3", "S2")}),))
    assert done.lanes[0].blocks == ()
    assert done.uses == ()
    assert done.clear_nights == 0


def test_a_full_moon_is_for_ha_and_the_dark_nights_after_it_for_o3() -> None:
    wanted = {"Ha": Demand(0.0, 20.0), "O3": Demand(0.0, 25.0)}
    found = planned(aims=(aim(**wanted),), date=FULL)
    assert {b.filter for b in found.lanes[0].blocks} == {"Ha"}
    o3 = [u.date for u in found.uses if u.filter == "O3"]
    assert min(o3) > FULL + dt.timedelta(days=4)
    # Ha done, nothing else is left to gain: a clear night in hand is used
    done = planned(aims=(aim(**{**wanted, "Ha": Demand(20.0, 20.0)}),), date=FULL)
    assert {b.filter for b in done.lanes[0].blocks} == {"O3"}


def test_a_colour_camera_gathers_both_lines_in_the_same_hour() -> None:
    colour = LightRig(80, 440, 3.76, 0.85, 0.8, 1.5, dark_e_s=0.002, colour=True)
    both = station(rig=colour, filters=(narrow("Ha", "O3"),))
    wanted = aim(Ha=Demand(0.0, 10.0), O3=Demand(0.0, 10.0))
    found = planned(both, aims=(wanted,))
    lane = found.lanes[0]
    assert {b.channels for b in lane.blocks} == {("Ha", "O3")}
    hours = sum(b.hours for b in lane.blocks)
    apart = planned(station(rig=colour, filters=(narrow("Ha"), narrow("O3"))), aims=(wanted,))
    for channel in ("Ha", "O3"):
        one = found.after_tonight["Weaverbird Nebula"][channel]
        other = apart.after_tonight["Weaverbird Nebula"].get(channel, 0.0)
        assert one > other
    assert hours == pytest.approx(sum(b.hours for b in apart.lanes[0].blocks), abs=0.4)
    mono = planned(station(filters=(narrow("Ha", "O3"),)), aims=(wanted,))
    assert mono.lanes[0].blocks == ()
    assert "cannot part Ha and O3" in mono.warnings[0]


def test_several_rigs_share_the_work_and_do_it_sooner() -> None:
    second = station("Shed", sky=SiteSky(20.6))
    alone, both = planned(), planned(station(), second)
    assert (both.clear_nights or 99) < (alone.clear_nights or 99)
    assert [lane.station.name for lane in both.lanes] == ["Ridge", "Shed"]
    assert all(lane.blocks for lane in both.lanes)
    for name in ("Ridge", "Shed"):
        for channel, share in both.alone[name]["Weaverbird Nebula"].items():
            assert share <= both.reached["Weaverbird Nebula"][channel] + 1e-6
    said = advise_tonight(both, aim(), clock)
    assert said is not None
    assert said.sentence.startswith("Ridge: ")
    assert "; Shed: " in said.sentence


def test_a_second_target_follows_the_first_where_that_one_is_low() -> None:
    later = Aim("Bellbird Galaxy", Target(290.0, -45.0), aim().glow, {"Ha": Demand(0.0, 6.0)})
    first = aim(Ha=Demand(0.0, 30.0), O3=Demand(0.0, 30.0))
    found = planned(aims=(first, later), date=dt.date(2027, 6, 5))
    blocks = found.lanes[0].blocks
    assert [t for t, _ in groupby(b.target for b in blocks)] == [first.name, later.name]
    handed = next(n for n, b in enumerate(blocks) if b.target == later.name)
    assert (blocks[handed].start - blocks[handed - 1].end) * 86400 >= 299  # slew, centre, focus
    said = advise_tonight(found, first, clock)
    assert said is not None
    assert f", then {later.name} in Ha" in said.sentence


def test_a_sky_that_glows_on_one_side_costs_there_alone() -> None:
    glow = ((90.0, 21.6), (180.0, 21.6), (270.0, 19.0), (0.0, 21.6))
    sky = SiteSky(21.6, glow)
    assert sky.brighter(np.array([180.0, 270.0])) == pytest.approx([1, 10 ** (0.4 * 2.6)])
    assert sky.brighter(np.array([315.0]))[0] == pytest.approx(10 ** (0.4 * 1.3))
    clean, lit = planned().lanes[0], planned(station(sky=sky)).lanes[0]
    key = ("Weaverbird Nebula", "O3")
    for one, two in zip(clean.curves, lit.curves, strict=True):
        assert (two.gains[key]["O3"] <= one.gains[key]["O3"] + 1e-9).all()
    assert lit.curves[-1].gains[key]["O3"][-1] < 0.6 * clean.curves[-1].gains[key]["O3"][-1]


def clock(jd: float) -> str:
    return moment_of(jd).strftime("%H:%M")


def said(found: Coming, of: Aim | None = None, cloudy: bool = False) -> str:
    advice = advise_tonight(found, of or aim(), clock, cloudy)
    assert advice is not None
    return advice.sentence


def test_tonight_in_one_sentence() -> None:
    first = said(planned())
    assert first.startswith("Moon 71 % until 12:47:")
    assert "from 12:47 when the sky is dark" in first
    done = aim(**{c: Demand(99.0, 9.0) for c in ("Ha", "O3", "S2")})
    assert "All goals" in said(planned(aims=(done,)), done)
    start = planned().lanes[0].stretches[0].start
    always = Weather(cloudy=((start - 1, start + 1),))
    assert "Clouds stand" in said(planned(weather=always), cloudy=True)
    away = planned(station(awake={NIGHT: (start - 0.1, start)}))
    assert "own hours leave nothing" in said(away)
    dark = next(s.start for s in planned().lanes[0].stretches if not s.moonlit)
    late = planned(station(awake={NIGHT: (dark, dark + 1)}))
    assert "under a dark sky" in said(late)
    short = planned(station(awake={NIGHT: (dark, dark + 0.12 / 24)}))
    assert "too short" in said(short)
    north = Place(69.65, 18)
    for day, target, words in (
        ("2027-06-21", Target(10, 60), "the Sun does not set"),
        ("2027-12-21", Target(10, -60), "never rises"),
        ("2027-12-21", Target(10, 10), "stays too low"),
    ):
        there = station(place=north, rules=Rules(min_altitude=60 if target.dec == 10 else 20))
        of = aim("X", target)
        found = planned(there, aims=(of,), date=dt.date.fromisoformat(day), nights=2)
        assert words in said(found, of)
    summer, of = station(place=Place(59.3, 18)), aim("X", Target(270, 60))
    found = planned(summer, aims=(of,), date=dt.date(2027, 6, 21), nights=2)
    assert "only civil darkness" in said(found, of)

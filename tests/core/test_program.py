"""The plan: orders, forecast, channels, blocks, and tonight's sentence."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

import pytest

from bichromus.core.advise.tonight import advise_tonight
from bichromus.core.model.errors import InputError
from bichromus.core.plan.dates import julian, moment_of
from bichromus.core.plan.earth import Place
from bichromus.core.plan.exposure import Optics
from bichromus.core.plan.night import Night, Rules, Target, plan_night
from bichromus.core.plan.order import Overheads, cost, run_through, sequence
from bichromus.core.plan.program import (
    ChannelInput,
    ChannelPlan,
    NightPlan,
    plan_channel,
    plan_nights,
    plan_tonight,
)
from bichromus.core.plan.segments import Segment, segments_of
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


def channel(name: str, rayleigh: float, **more: float) -> ChannelInput:
    wavelength = {"Ha": 656.3, "O3": 500.7, "S2": 672.4}[name]
    optics = Optics(80, 440, 3.76, 0.62, wavelength, 3.0, 1.5, dark_e_s=0.002)
    return ChannelInput(name, optics, optics.line_e_s(rayleigh), 21.6, 2.84, 50_000, **more)


INPUTS = {"Ha": channel("Ha", 100), "O3": channel("O3", 18), "S2": channel("S2", 13)}


def ridge(day: str = "2027-03-17", **rules: float) -> Night:
    return plan_night(RIDGE, dt.date.fromisoformat(day), WEAVERBIRD, Rules(**rules))  # type: ignore[arg-type]


def plans() -> list[ChannelPlan]:
    return [plan_channel(c, 600) for c in INPUTS.values()]


def test_sub_lengths_and_hours_wanted_follow_from_sky_and_target() -> None:
    ha, o3, s2 = plans()
    assert ha.wanted_h < o3.wanted_h < s2.wanted_h
    assert ha.stack_snr == pytest.approx(15, rel=0.02)
    assert o3.sub.limited_by == "max_sub"
    assert o3.sub_snr < ha.sub_snr
    town = plan_channel(replace(INPUTS["O3"], site_mag=18.5), 600)
    assert (town.sub.ideal_s or 0) < (o3.sub.ideal_s or 0)
    assert town.wanted_h > o3.wanted_h
    held = plan_channel(replace(INPUTS["S2"], hours_had=8.0, factor=1.39), 600)
    assert held.missing_h == pytest.approx(8 * (1.39**2 - 1))
    assert plan_channel(
        replace(INPUTS["S2"], hours_had=8.0, goal_hours=10.0), 600
    ).missing_h == pytest.approx(2)
    assert plan_channel(replace(INPUTS["S2"], hours_had=8.0, factor=1.0), 600).missing_h == 0


def test_broad_filters_get_subs_that_keep_the_shutter_open() -> None:
    optics = Optics(80, 440, 3.76, 0.62, 550, 280.0, 1.5, dark_e_s=0.002)
    broad = ChannelInput("L", optics, optics.surface_e_s(23.5), 19.5, 2.84, 50_000)
    found = plan_channel(broad, 600, overhead_s=12)
    assert found.sub.limited_by == "worth"
    assert found.sub.sub_s / (found.sub.sub_s + 12) > 0.85
    assert found.sub.saturates_at_s is not None
    assert found.sub.saturates_at_s < found.sub.sub_s  # full stars are told, and set no length
    assert found.worth.share(found.sub.sub_s) >= 0.97


def test_three_short_sets_are_shot_whole_and_in_turns_or_said_to_be_left_out() -> None:
    inputs = {name: INPUTS[name] for name in ("O3", "S2")}
    for name, wavelength in (("R", 630), ("G", 530), ("B", 455)):
        optics = Optics(80, 440, 3.76, 0.62, wavelength, 90.0, 1.5, dark_e_s=0.002)
        glow = optics.surface_e_s(23.5)
        inputs[name] = ChannelInput(name, optics, glow, 21.6, 2.84, 50_000, goal_hours=0.6)
    channels = [plan_channel(c, 600) for c in inputs.values()]
    day = 2461482.0
    night = [Segment(day, day + 4 / 24, True, 400.0), Segment(day + 4 / 24, day + 8 / 24, False, 0)]
    made = plan_tonight(night, channels, inputs, None)
    assert made.left_out is None
    small = [b for b in made.blocks if b.channel in "RGB"]
    for name in "RGB":
        assert sum(b.subs * b.sub_s for b in small if b.channel == name) / 3600 >= 0.6 - 0.04
    assert [b.channel for b in small] == ["R", "G", "B"] * 2
    assert min(b.start for b in small) >= night[1].start  # under the better sky
    between = [b for b in made.blocks if small[0].end < b.start < small[-1].start]
    assert {b.channel for b in between} <= set("RGB")  # in one stretch
    short = plan_tonight([Segment(day, day + 1 / 24, False, 0)], channels, inputs, None)
    assert short.left_out is not None
    assert list(short.left_out.counts) == ["R", "G", "B"]


def test_twilight_is_no_dark_sky() -> None:
    night = ridge(sun_below=-7.0)
    pieces = segments_of(night)
    twilit = [s for s in pieces if s.sun_down_deg < 18]
    assert twilit
    assert max(s.hours for s in twilit) <= 0.25 + 1e-6
    assert sum(s.hours for s in pieces) == pytest.approx(night.target.hours, abs=0.3)  # type: ignore[union-attr]
    brightest = min(twilit, key=lambda s: s.sun_down_deg)
    assert brightest.light.factor("O3", 21.6) > 100
    assert brightest.light.factor("O3", 18.0) < brightest.light.factor("O3", 21.6)
    made = plan_tonight(pieces, plans(), INPUTS, None)
    alone = plan_tonight(segments_of(ridge()), plans(), INPUTS, None)
    assert sum(made.hours.values()) >= sum(alone.hours.values())  # no piece wastes part of a sub
    moon_sets = next(s.end for s in reversed(pieces) if s.moonlit)
    said = advise_tonight(night, made, plans(), "DEMO 12", "Ridge", lambda jd: f"{jd:.4f}", False)
    assert said is not None
    assert f"until {moon_sets:.4f}" in said.sentence
    open_then = [b for b in made.blocks if b.start < brightest.end and b.end > brightest.start]
    assert not open_then  # nothing is worth shooting there while the dark holds more


def test_the_night_is_cut_by_moon_and_cloud() -> None:
    night = ridge()
    segments = segments_of(night)
    assert [s.moonlit for s in segments] == [True, False]
    assert moment_of(segments[0].end) == moment_of(night.moon.set or 0)
    assert segments[0].moon_nl > 10 > segments[1].moon_nl == 0
    start = segments[0].start
    clouded = segments_of(
        night, [(start - 1, start + 1 / 24), (segments[1].start + 0.05, segments[1].start + 0.10)]
    )
    assert sum(s.hours for s in clouded) == pytest.approx(
        sum(s.hours for s in segments) - 2.2, abs=0.02
    )
    assert segments_of(ridge(min_altitude=89.0)) == []


def tonight(night: Night | None = None, every: int | None = None) -> tuple[Night, NightPlan]:
    night = night or ridge()
    return night, plan_tonight(segments_of(night), plans(), INPUTS, every)


def test_blocks_lie_in_their_windows_and_use_the_dark_for_o3() -> None:
    night, found = tonight()
    assert found.blocks
    for block in found.blocks:
        home = next(s for s in found.segments if s.start - 1e-9 <= block.start < s.end)
        assert block.end <= home.end + 1e-9
        assert block.end - block.start >= block.subs * block.sub_s / 86400 - 1e-9
    for one, two in zip(found.blocks, found.blocks[1:], strict=False):
        assert two.start >= one.end
    o3 = sum(
        b.subs
        for b in found.blocks
        if b.channel == "O3" and b.start >= (night.moon.set or 0) - 1e-9
    )
    assert o3 >= sum(b.subs for b in found.blocks if b.channel == "O3") / 2
    assert sum(found.hours.values()) <= (night.target.hours if night.target else 0)
    for name, hours in found.hours.items():
        assert 0 < found.gained[name] <= hours * (1 + 1e-9)  # an hour in moonlight is worth less
    assert sum(found.gained.values()) < sum(found.hours.values())
    _, cycled = tonight(every=3)
    assert len(cycled.blocks) > len(found.blocks)
    assert found.block_cost.completeness < found.cycle_cost.completeness
    after = [replace(p, had_h=p.wanted_h) for p in plans()]
    assert plan_tonight(segments_of(night), after, INPUTS, None).blocks == ()
    coming = plan_nights([("18", 4.0, 3.0, 100.0), ("19", 0.0, 8.0, 120.0)], plans(), INPUTS)
    assert coming is not None
    assert set(coming.hours) == {"18 dark", "18 moon", "19 moon"}
    assert plan_nights([("18", 4.0, 3.0, 100.0)], after, INPUTS) is None


def said(
    night: Night, plan: NightPlan, channels: list[ChannelPlan] | None = None, cloudy: bool = False
) -> str:
    advice = advise_tonight(
        night,
        plan,
        channels or plans(),
        "Weaverbird Nebula",
        "Ridge",
        lambda jd: moment_of(jd).strftime("%H:%M"),
        cloudy,
    )
    assert advice is not None
    return advice.sentence


def test_tonight_in_one_sentence() -> None:
    night, plan = tonight()
    first = said(night, plan)
    assert first.startswith("Moon 71 % until 12:47:")
    assert "from 12:47 when the sky is dark" in first
    done = [replace(p, had_h=p.wanted_h) for p in plans()]
    assert "All goals" in said(night, plan, done)
    assert "Clouds stand" in said(night, replace(plan, segments=(), blocks=()), cloudy=True)
    only = replace(
        plan,
        segments=tuple(s for s in plan.segments if not s.moonlit),
        blocks=tuple(b for b in plan.blocks if b.start >= (night.moon.set or 0) - 1e-9),
    )
    assert "under a dark sky" in said(night, only)
    short = [Segment(night.start, night.start + 0.001, False, 0.0)]
    assert "too short" in said(night, replace(plan, segments=tuple(short), blocks=()))
    north = Place(69.65, 18)
    for day, target, words in (
        ("2027-06-21", Target(10, 60), "the Sun does not set"),
        ("2027-12-21", Target(10, -60), "never rises"),
        ("2027-12-21", Target(10, 10), "stays too low"),
    ):
        there = plan_night(
            north,
            dt.date.fromisoformat(day),
            target,
            Rules(min_altitude=60 if target.dec == 10 else 20),
        )
        assert words in said(there, replace(plan, segments=(), blocks=()))
    summer = plan_night(Place(59.3, 18), dt.date(2027, 6, 21), Target(270, 60))
    assert "only civil darkness" in said(summer, replace(plan, segments=(), blocks=()))
    assert (
        advise_tonight(
            plan_night(north, dt.date(2027, 12, 21)), plan, plans(), "x", "y", str, False
        )
        is None
    )
    assert julian(moment_of(night.start)) == pytest.approx(night.start, abs=1e-5)

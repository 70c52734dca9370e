"""Hours of other rigs in hours of the plan's: what counts is what an hour adds to SNR squared."""

from __future__ import annotations

import datetime as dt

import pytest

from bichromus.core.advise.enough import advise_enough
from bichromus.core.plan.through import through_of
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.library.things import PlanState
from bichromus.workspace.log.channel_time import shot_with
from bichromus.workspace.log.sub import Sub
from bichromus.workspace.planning.equivalent import Counted, rig_of
from bichromus.workspace.planning.held import Held, Shot, growths
from bichromus.workspace.planning.stations import aim_of, stations_of
from bichromus.workspace.planning.view import make_plan

NOW = dt.datetime(2027, 3, 17, 12, tzinfo=dt.UTC)


def plan_with(*beside: str) -> PlanState:
    return demo_plan().model_copy(update={"with_rigs": beside})


def rig(site: str) -> str:
    return next(r.name for r in demo_plan().rigs if r.site == site)


def rate(plan: PlanState, name: str, channels: str, channel: str) -> float:
    """What an hour adds to SNR squared, of the best filter that passes just these channels."""
    everyone = plan.model_copy(update={"with_rigs": tuple(r.name for r in plan.rigs)})
    stations = stations_of(everyone, ())
    aim = aim_of(plan.target_named(), plan, {}, ["Ha", "O3", "S2"])
    station = next(s for s in stations if s.name == name)
    found = [through_of(station, f, aim) for f in station.filters]
    fits = [t for t in found if t is not None and "+".join(t.channels) == channels]
    return max(t.alone[channel] for t in fits)


def test_hours_of_a_dual_band_camera_count_what_they_bring() -> None:
    plan = plan_with()
    ridge, balcony = rig("Ridge"), rig("Balcony")
    shot = (Shot(ridge, "Ridge", "O3", 6.0), Shot(balcony, "Balcony", "Ha+O3", 9.0))
    view = make_plan(plan, {"O3": Held(15.0, shot=shot)}, NOW)
    share = rate(plan, balcony, "Ha+O3", "O3") / rate(plan, ridge, "O3", "O3")
    assert 0 < share < 0.6  # a town's sky, and three quarters of the pixels
    counted = view.counted["O3"]
    assert counted.rig == ridge
    assert [p.share for p in counted.parts] == pytest.approx([1.0, share])
    o3 = next(c for c in view.channels if c.channel == "O3")
    assert o3.had_h == pytest.approx(6.0 + 9.0 * share)
    # told the other way round, from the town: the dark sky's hours count for more
    town = plan.model_copy(update={"site": "Balcony", "rig": balcony})
    other = make_plan(town, {"O3": Held(15.0, shot=shot)}, NOW).counted["O3"]
    assert {p.rig: p.share for p in other.parts}[ridge] > 1


def test_what_is_measured_and_what_it_lacks_are_told_in_the_same_hours() -> None:
    shot = (Shot(rig("Ridge"), "", "Ha", 4.0), Shot(rig("Balcony"), "", "Ha+O3", 4.0))
    view = make_plan(plan_with(), {"Ha": Held(8.0, 1.5, 8.0, shot=shot)}, NOW)
    ha = next(c for c in view.channels if c.channel == "Ha")
    assert ha.wanted_h == pytest.approx(1.5**2 * ha.had_h)
    assert 4.0 < ha.had_h < 8.0
    counted = {"Ha": (view.counted["Ha"].share, rig("Ridge"))}
    growth = growths({"Ha": Held(8.0)}, {}, {"Ha": ha.wanted_h}, {}, counted)[0]
    assert growth.hours == pytest.approx(ha.had_h)
    assert (growth.shot_h, growth.hours_of) == (8.0, rig("Ridge"))
    advice = advise_enough([growth])
    assert advice is not None
    assert "Hours are those of Ridge" in advice.formula


def test_one_rig_and_rigs_that_nobody_knows_count_as_the_clock_does() -> None:
    own = (Shot(rig("Ridge"), "Ridge", "Ha", 5.0),)
    view = make_plan(plan_with(), {"Ha": Held(5.0, shot=own)}, NOW)
    assert not view.counted["Ha"].differs
    assert next(c for c in view.channels if c.channel == "Ha").had_h == pytest.approx(5.0)
    strange = (*own, Shot("borrowed tube", "Elsewhere", "Ha", 3.0))
    counted = make_plan(plan_with(), {"Ha": Held(8.0, shot=strange)}, NOW).counted["Ha"]
    assert counted.share == pytest.approx(1.0)
    assert [(p.rig, p.known) for p in counted.parts][1] == ("borrowed tube", False)
    untold = make_plan(plan_with(), {"Ha": Held(8.0)}, NOW)
    assert untold.counted == {}
    assert next(c for c in untold.channels if c.channel == "Ha").had_h == pytest.approx(8.0)


def test_rigs_are_known_by_their_own_name_or_as_the_only_one_of_a_place() -> None:
    rigs = demo_plan().rigs
    found = rig_of(Shot(rig("Shed").upper(), "Ridge", "Ha", 1), rigs)
    assert found is not None
    assert found.site == "Shed"
    found = rig_of(Shot("", "balcony", "Ha+O3", 1), rigs)
    assert found is not None
    assert found.site == "Balcony"
    two = (*rigs, rigs[1].model_copy(update={"name": "another"}))
    assert rig_of(Shot("", "Balcony", "Ha+O3", 1), two) is None
    assert rig_of(Shot("", "", "Ha", 1), rigs) is None


def test_tonight_of_several_rigs_is_told_in_hours_of_the_plans() -> None:
    everyone = plan_with(rig("Balcony"), rig("Shed")).model_copy(
        update={"goal_mode": "even", "even_hours": 40.0}
    )
    view = make_plan(everyone, {}, NOW)
    expected: dict[str, float] = {}
    for lane in view.lanes:
        for block in lane.blocks:
            for c in block.channels:
                mine = next(p for p in view.channels if p.channel == c)
                share = (
                    rate(everyone, lane.station.name, "+".join(block.channels), c) / mine.per_hour
                    if c in ("Ha", "O3", "S2")
                    else None
                )
                if share is not None:
                    expected[c] = expected.get(c, 0.0) + share * block.hours
    assert any(len(b.channels) > 1 for lane in view.lanes for b in lane.blocks)
    for channel, hours in expected.items():
        assert view.tonight.hours[channel] == pytest.approx(hours, rel=1e-6)


def test_kept_subs_are_told_apart_by_telescope_and_filter() -> None:
    def sub(telescope: str, channel: str, kept: bool = True) -> Sub:
        night = dt.date(2027, 3, 1)
        return Sub("", "x", channel, channel, night, None, 1800.0, "Pier", telescope, "", kept, "")

    subs = [
        sub("A", "Ha+O3"),
        sub("A", "Ha+O3"),
        sub("B", "O3"),
        sub("B", "O3", False),
        sub("A", ""),
    ]
    found = shot_with(subs)
    assert found["Ha"] == (Shot("A", "Pier", "Ha+O3", 1.0),)
    assert set(found["O3"]) == {Shot("A", "Pier", "Ha+O3", 1.0), Shot("B", "Pier", "O3", 0.5)}
    assert Counted("A").share == 1.0

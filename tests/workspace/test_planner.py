"""The plan of a project: made of what it knows, written in every form, and what is wrong said in
words.
"""

from __future__ import annotations

import csv
import datetime as dt
import json
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.model.channel import LINES
from bichromus.core.model.errors import InputError, OutputRefused, UnknownName
from bichromus.core.plan.catalogue import search
from bichromus.core.plan.dates import julian
from bichromus.core.plan.mosaic import Pointing
from bichromus.core.simulate.demo import GALAXY
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.library.edits import merged
from bichromus.workspace.library.files import read_things, save_things
from bichromus.workspace.library.things import BandThing, FilterThing, PlanState, SiteThing
from bichromus.workspace.planning.cautions import cautions
from bichromus.workspace.planning.files import (
    calendar,
    checklist,
    write_plan,
)
from bichromus.workspace.planning.held import Held
from bichromus.workspace.planning.season import year_of
from bichromus.workspace.planning.stations import STAR_COLOURS_H
from bichromus.workspace.planning.view import PlanView, make_plan, outlook
from stepped import stepped_session
from waiting import wait

NOW = dt.datetime(2027, 3, 17, 9, tzinfo=dt.UTC)
HELD = {"Ha": Held(6.3, 1.0), "O3": Held(9.0, 1.1), "S2": Held(8.0, 1.39)}


@pytest.fixture(scope="module")
def view() -> PlanView:
    return make_plan(demo_plan(), HELD, NOW)


def test_the_demo_scenario_comes_out_as_it_is_told(view: PlanView) -> None:
    assert view.site.name == "Ridge"
    assert view.night.date == dt.date(2027, 3, 17)
    assert view.clock(view.night.moon.set or 0) == "01:47"
    assert view.night.target is not None
    assert view.clock(view.night.target.transit or 0) == "01:24"
    assert view.night.moon.lit == pytest.approx(0.69, abs=0.03)
    assert len(view.strip) == 14
    missing = {c.channel: c.missing_h for c in view.channels}
    assert missing["Ha"] == 0
    assert missing["S2"] == pytest.approx(8 * (1.39**2 - 1))
    assert view.tonight.hours.get("S2", 0) > 0
    assert view.advice is not None
    assert view.coming is not None
    assert view.frame.field == (pytest.approx(2.03, abs=0.01), pytest.approx(1.38, abs=0.01))
    assert {f.name for f in view.fields} == {r.name for r in demo_plan().rigs}


def test_sky_site_and_rig_change_the_plan(view: PlanView) -> None:
    town = make_plan(demo_plan().model_copy(update={"site": "Balcony"}), {}, NOW)
    dark = make_plan(demo_plan(), {}, NOW)
    for one, two in zip(town.channels, dark.channels, strict=True):
        if one.channel in LINES:
            assert one.wanted_h > two.wanted_h
        else:  # colours for the stars of a nebula
            assert one.wanted_h == two.wanted_h == STAR_COLOURS_H
    fast = make_plan(demo_plan().model_copy(update={"rig": demo_plan().rigs[2].name}), HELD, NOW)
    assert min(c.kept for c in fast.checks if c.kept is not None) < min(
        c.kept for c in view.checks if c.kept is not None
    )
    assert any(c.wants for c in fast.checks)
    later = dt.datetime(2027, 4, 2, 9, tzinfo=dt.UTC)
    assert make_plan(demo_plan(), HELD, later).night.date == dt.date(
        2027, 3, 17
    )  # the demo has its own clock
    own = demo_plan().model_copy(update={"fixed_clock": False})
    assert make_plan(own, HELD, later).night.date == dt.date(
        2027, 4, 2
    )  # a night that is over gives way to tonight
    today = make_plan(demo_plan().model_copy(update={"date": ""}), HELD, NOW)
    assert today.night.date == dt.date(2027, 3, 17)
    rig = demo_plan().rigs[0]
    colour = demo_plan().model_copy(
        update={"rigs": (rig.model_copy(update={"colour": True}), *demo_plan().rigs[1:])}
    )
    for one, two in zip(make_plan(colour, {}, NOW).channels[:3], dark.channels, strict=False):
        assert one.wanted_h / two.wanted_h == pytest.approx(
            # of O3 fewer pixels see it, and these less well: read noise weighs more in them
            {"O3": 1.85, "G": 2.0}.get(one.channel, 4.0),
            rel=0.08 if one.channel == "O3" else 0.01,
        )
    turned = make_plan(demo_plan().model_copy(update={"camera_angle": 90.0}), HELD, NOW)
    assert turned.frame.extent == (
        pytest.approx((view.target.size_arcmin[1]) / 60, rel=0.35),
        pytest.approx(view.target.size_arcmin[0] / 60, rel=0.35),
    )


def test_of_each_kind_its_usual_channels_are_wanted() -> None:
    def wanted(kind: str, **more: object) -> list[str]:
        target = demo_plan().targets[0].model_copy(update={"kind": kind})
        wide = FilterThing(name="L", bands=(BandThing(channel="L", width_nm=280),))
        rig = demo_plan().rigs[0].model_copy(update={"filters": ()})
        plan = demo_plan().model_copy(
            update={
                "targets": (target,),
                "rigs": (rig,),
                "filters": (*demo_plan().filters, wide),
                **more,
            }
        )
        return [c.channel for c in make_plan(plan, {"O3": Held(1.0)}, NOW).channels]

    assert wanted("emission") == ["Ha", "O3", "S2", "R", "G", "B"]
    assert wanted("galaxy") == ["Ha", "O3", "L", "R", "G", "B"]  # O3 was shot
    assert wanted("cluster") == ["O3", "L", "R", "G", "B"]
    goals = {"goal_mode": "typed", "goals": {"S2": 3.0}}
    assert "S2" in wanted("cluster", **goals)
    galaxy = make_plan(
        demo_plan(GALAXY).model_copy(update={"goal_mode": "deficit"}), {}, NOW
    ).channels
    hours = {c.channel: c.stack_snr for c in galaxy}
    assert hours["R"] == pytest.approx(hours["L"] / 3, rel=0.01)  # colour beside a luminance


def test_a_rehearsal_shows_noise_falling_and_the_nebula_staying(view: PlanView) -> None:
    one, stack = outlook(view, "O3")
    assert one.shape == stack.shape
    quiet = (slice(0, 12), slice(0, 12))
    assert stack[quiet].std() < 0.5 * one[quiet].std()
    assert np.median(stack[60:110, 60:120]) > np.median(stack[quiet])
    assert stack.max() <= 1


def test_what_is_missing_is_said() -> None:
    for plan, words in (
        (PlanState(), "There is no site yet"),
        (demo_plan().model_copy(update={"rigs": ()}), "no rig"),
        (demo_plan().model_copy(update={"target": "X"}), "target is called 'X'"),
    ):
        with pytest.raises(UnknownName, match=words):
            make_plan(plan, HELD, NOW)
    lost = demo_plan().sites[0].model_copy(update={"time_zone": "Nowhere/Here"})
    with pytest.raises(InputError, match="time zone of Ridge"):
        make_plan(demo_plan().model_copy(update={"sites": (lost,)}), HELD, NOW)
    empty = make_plan(demo_plan().model_copy(update={"filters": ()}), HELD, NOW)
    assert empty.channels == ()
    assert empty.tonight.blocks == ()


def test_the_plan_is_written_in_every_form(view: PlanView, tmp_path: Path) -> None:
    for name in ("t.md", "t.csv", "t.json", "t.ics"):
        write_plan(view, tmp_path / name)
    rows = list(csv.reader((tmp_path / "t.csv").read_text().splitlines()))
    blocks = rows[1 : 1 + len(view.tonight.blocks)]
    assert [r[2] for r in blocks] == [b.filter for b in view.tonight.blocks]
    assert rows[-1][0] == "1"
    assert float(rows[-1][1]) == pytest.approx(171.0)
    raw = json.loads((tmp_path / "t.json").read_text())
    assert raw["channels"]["S2"]["hours_held"] == 8.0
    assert raw["blocks"][0]["start"].endswith("Z")
    text = checklist(view)
    assert "Weaverbird Nebula, night of 2027-03-17" in text
    assert text.count("☐") == len(view.tonight.blocks) + 1
    for words in ("set up and cool", "refocus", "flip to the other side", "end: ", "Rest before"):
        assert words in text
    far = make_plan(
        demo_plan().model_copy(update={"with_rigs": (demo_plan().rigs[2].name,)}), {}, NOW
    )
    assert "## Shed, 135 mm f/2 lens, mono, Shed" in checklist(far)
    assert any("Alone at a dark site" in words for words in cautions(far))
    events = calendar(view)
    assert events.count("BEGIN:VEVENT") == events.count("END:VEVENT") == len(view.tonight.blocks)
    assert all(len(line) < 76 for line in events.split("\r\n"))
    with pytest.raises(OutputRefused):
        write_plan(view, tmp_path / "t.md")
    with pytest.raises(UnknownName, match="no form of the plan"):
        write_plan(view, tmp_path / "t.doc")
    wide = make_plan(large(), HELD, NOW)
    write_plan(wide, tmp_path / "m.csv")
    panels = list(csv.reader((tmp_path / "m.csv").read_text().splitlines()))[-4:]
    assert [r[0] for r in panels] == ["1", "2", "3", "4"]
    assert len({r[3] for r in panels}) > 1  # each has an angle of its own
    assert "| → | 1 |" in checklist(wide)


def large(**more: object) -> PlanState:
    """The demo's plan of a target that wants two by two panels."""
    plan = demo_plan()
    target = plan.targets[0].model_copy(update={"size_arcmin": (210.0, 140.0), "angle": 24.0})
    return plan.model_copy(update={"targets": (target,), **more})


def test_panels_multiply_the_goals_and_the_least_done_is_next() -> None:
    even = {"goal_mode": "even", "even_hours": 3.0}
    one = make_plan(demo_plan().model_copy(update=even), {}, NOW)
    four = make_plan(large(**even), {}, NOW)
    assert four.mosaic is not None
    assert one.mosaic is None
    assert len(four.mosaic.panels) == 4
    for a, b in zip(one.channels, four.channels, strict=True):
        assert b.wanted_h == 4 * a.wanted_h
    assert four.mosaic.next == four.mosaic.panels[0]
    typed = {"1": {"Ha": 3.0, "O3": 3.0, "S2": 3.0}, "2": {"Ha": 3.0}}
    by_hand = make_plan(large(**even, panels_done=typed), HELD, NOW)
    assert by_hand.mosaic is not None
    assert by_hand.mosaic.share(by_hand.mosaic.panels[0]) == pytest.approx(0.5)
    assert by_hand.mosaic.next is not None
    assert by_hand.mosaic.next.number == 3
    assert {c.channel: c.had_h for c in by_hand.channels}["Ha"] == 6.0
    third = four.mosaic.panels[2]
    shot = [Pointing(p.ra, p.dec, "Ha", 2.0) for p in four.mosaic.panels if p != third]
    told = make_plan(large(**even), {"Ha": Held(6.0)}, NOW, pointings=shot)
    assert told.mosaic is not None
    assert told.mosaic.known
    assert told.mosaic.next is not None
    assert told.mosaic.next.number == 3
    every = make_plan(large(**even, panel_order="all"), {}, NOW)
    assert every.mosaic is not None
    assert every.mosaic.next is None


def test_a_session_learns_from_headers_which_panels_are_done(tmp_path: Path) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "x", now=lambda: NOW)
    plan = large(goal_mode="even", even_hours=1.0)
    session.planning.set_plan("things", **plan.model_dump())
    wait(lambda: session.planning.snapshot.view is not None)
    view = session.planning.snapshot.view
    assert view is not None
    assert view.mosaic is not None
    last = view.mosaic.panels[-1]
    (tmp_path / "subs").mkdir()
    for n in range(3):
        card = fits.PrimaryHDU(np.zeros((8, 8), np.uint16))
        card.header.update(
            {"FILTER": "Ha", "EXPTIME": 600.0, "DATE-OBS": f"2027-03-10T10:{10 * n:02d}:00",
             "OBJECT": "Weaverbird Nebula", "SITELONG": 170.46, "RA": last.ra, "DEC": last.dec}
        )  # fmt: skip
        card.writeto(tmp_path / "subs" / f"{n}.fits")
    session.log.take_in(tmp_path / "subs")

    def told() -> bool:
        now = session.planning.snapshot.view
        return now is not None and now.mosaic is not None and now.mosaic.known

    wait(told)
    view = session.planning.snapshot.view
    assert view is not None
    assert view.mosaic is not None
    assert view.mosaic.panels[-1].done == {"Ha": pytest.approx(0.5)}
    session.close()


def test_things_go_out_and_in(tmp_path: Path) -> None:
    path = tmp_path / "things.json"
    save_things(demo_plan(), path)
    mine = PlanState(
        sites=(SiteThing(name="Ridge", lat=1, lon=2), SiteThing(name="Loft", lat=3, lon=4))
    )
    both = merged(mine, read_things(path))
    assert [s.name for s in both.sites] == ["Ridge", "Loft", "Balcony", "Shed"]
    assert both.site_named("ridge").lat == -43.98
    assert both.targets == demo_plan().targets
    old = {
        "format": "bichromus-things",
        "version": 1,
        "filters": [
            {"channel": "Ha", "width_nm": 3.0, "clear_mm": 28.0},
            {"channel": "Ha", "width_nm": 7.0},
            {"channel": "L", "width_nm": 280.0, "transmission": 0.9},
        ],
    }  # as they were when a filter had one channel and no name
    path.write_text(json.dumps(old))
    filters = read_things(path).filters
    assert [f.name for f in filters] == ["Ha", "Ha 7 nm", "L"]
    assert (filters[0].clear_mm, filters[0].bands[0].width_nm) == (28.0, 3.0)
    assert filters[2].bands[0].transmission == 0.9
    for text, words in (
        ("{", "Expecting"),
        ("{}", "not a file of things"),
        ('{"format": "bichromus-things", "sites": [{"name": "A", "lat": 99, "lon": 0}]}', "lat"),
    ):
        path.write_text(text)
        with pytest.raises(InputError, match=words):
            merged(mine, read_things(path))


def test_a_session_plans_with_what_its_channels_hold(tmp_path: Path) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "x", now=lambda: NOW)
    session.follow()
    planning = session.planning
    wait(lambda: planning.snapshot.error)
    assert "There is no site yet" in planning.snapshot.error
    planning.set_plan("things", **demo_plan().model_dump())
    wait(lambda: planning.snapshot.view is not None)
    assert planning.snapshot.view is not None
    assert planning.snapshot.view.channels[0].had_h == 0
    planning.set_plan("another night", date="2027-04-08")
    wait(lambda: planning.snapshot.view and planning.snapshot.view.night.date.month == 4)
    assert planning.snapshot.view.night.date == dt.date(2027, 4, 8)
    assert session.document.undo() == "another night"
    session.close()


def test_goals_may_be_even_or_typed_and_nights_are_counted(view: PlanView) -> None:
    even = make_plan(
        demo_plan().model_copy(update={"goal_mode": "even", "even_hours": 9.5}), HELD, NOW
    )
    assert {c.channel: round(c.missing_h, 2) for c in even.channels}["S2"] == 1.5
    typed = make_plan(
        demo_plan().model_copy(update={"goal_mode": "typed", "goals": {"S2": 8.5, "O3": 9.0}}),
        {**HELD, **{n: Held(0.5, 1.0) for n in "RGB"}},
        NOW,
    )
    missing = {c.channel: c.missing_h for c in typed.channels}
    assert missing["S2"] == pytest.approx(0.5)
    assert missing["Ha"] == 0
    assert typed.coming.clear_nights == 1
    assert (view.coming.clear_nights or 99) <= 4
    reached = make_plan(
        demo_plan().model_copy(update={"goal_mode": "typed", "goals": {"S2": 1.0}}),
        {n: Held(5.0, 1.0) for n in ("Ha", "O3", "S2", "R", "G", "B")},
        NOW,
    )
    assert reached.coming.clear_nights == 0
    assert reached.tonight.blocks == ()
    far = make_plan(
        demo_plan().model_copy(update={"goal_mode": "even", "even_hours": 900.0}), HELD, NOW
    )
    assert far.coming.clear_nights is None


def test_overheads_and_the_meridian_cost_subs(view: PlanView) -> None:
    hurried = make_plan(
        demo_plan().model_copy(update={"refocus_min": 20.0, "dither_every": 1}), HELD, NOW
    )
    assert hurried.tonight.block_cost.open_share < view.tonight.block_cost.open_share
    assert view.night.target is not None
    transit = view.night.target.transit or 0
    for block in view.tonight.blocks:
        assert not block.start < transit - 1e-6 < block.end - 1e-6


def test_a_forecast_of_ones_own_cuts_the_night(tmp_path: Path) -> None:
    path = tmp_path / "f.csv"
    hours = [f"2027-03-17T{h:02d}:00:00Z,{0.9 if h < 14 else 0.0}" for h in range(6, 20)]
    path.write_text("time_utc,cloud\n" + "\n".join(hours) + "\n")
    cut = make_plan(demo_plan().model_copy(update={"forecast_csv": str(path)}), HELD, NOW)
    assert not cut.forecast.simulated
    assert (
        min(s.start for s in cut.lanes[0].stretches)
        >= julian(dt.datetime(2027, 3, 17, 14, tzinfo=dt.UTC)) - 1e-6
    )
    path.write_text(
        "time_utc,cloud\n" + "\n".join(h.rpartition(",")[0] + ",1.0" for h in hours) + "\n"
    )
    lost = make_plan(demo_plan().model_copy(update={"forecast_csv": str(path)}), HELD, NOW)
    assert lost.advice is not None
    assert "Clouds stand" in lost.advice.sentence
    assert lost.tonight.blocks == ()
    with pytest.raises(InputError, match="forecast is not usable"):
        make_plan(
            demo_plan().model_copy(update={"forecast_csv": str(tmp_path / "none.csv")}), HELD, NOW
        )


def test_the_year_and_the_shared_field(view: PlanView) -> None:
    nights = year_of(view, demo_plan())
    assert len(nights) == 365
    assert nights[0] == view.strip[0]
    assert set(view.shared) == {r.name for r in demo_plan().rigs}
    assert max(view.shared.values()) == pytest.approx(
        1.0, abs=0.01
    )  # the smallest field lies inside the others
    assert min(view.shared.values()) < 0.1


def test_the_catalogue_is_searched_by_designation() -> None:
    found = search("ic 2")
    assert found[0].name == "IC 2"
    assert found[0].kind == "galaxy"
    assert 0 <= found[0].ra < 360
    assert search("IC0002")[0] == found[0]
    assert search("i") == []
    for text, name in (
        ("Messier 83", "NGC 5236"),
        ("m83", "NGC 5236"),
        ("caldwell 77", "NGC 5128"),
    ):
        assert search(text)[0].name == name
    assert search("IC 2944")[0].size_arcmin == (75, 60)
    assert search("no such thing at all") == []
    assert len(search("ic 1", most=5)) <= 5


def test_the_sessions_year_comes_from_its_own_thread(tmp_path: Path) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "x", now=lambda: NOW)
    heard: list[list[object]] = []
    session.planning.year.connect(heard.append)
    session.planning.set_plan("things", **demo_plan().model_dump())
    wait(lambda: session.planning.snapshot.view is not None)
    session.planning.request_year()
    wait(lambda: bool(heard))
    assert len(heard[0]) == 365
    pictures: list[str] = []
    session.planning.outlook.connect(lambda name, _two: pictures.append(name))
    session.planning.request_outlook("O3")
    session.planning.request_outlook("none")
    wait(lambda: pictures == ["O3"])
    session.close()


def test_no_weather_that_was_invented_shortens_a_plan() -> None:
    demo = make_plan(demo_plan(), HELD, NOW)
    assert demo.weather_known
    assert demo.cloudy
    mine = make_plan(demo_plan().model_copy(update={"fixed_clock": False}), HELD, NOW)
    assert not mine.weather_known
    assert mine.cloudy == ()
    assert sum(s.hours for s in mine.lanes[0].stretches) == pytest.approx(
        mine.night.target.hours,  # type: ignore[union-attr]
        abs=0.11,
    )

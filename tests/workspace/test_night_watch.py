"""The night watch of a project: what arrives is measured, what is wrong is told once, the rest of
the night is planned anew.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bichromus.core.plan.dates import julian
from bichromus.core.simulate.evening import Exposure, Incident
from bichromus.core.simulate.forecast import Forecast, Hour
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.planning.rehearsal import (
    FocusPauses,
    eventful,
    make_evening,
    shoot,
    shots_of,
)
from bichromus.workspace.session import Session
from stepped import stepped_session
from waiting import wait

SHAPE = (260, 390)
BEGIN = dt.datetime(2027, 4, 1, 9, 30, tzinfo=dt.UTC)
SHOTS = [Exposure("Ha", BEGIN + dt.timedelta(seconds=325 * n), 300.0) for n in range(12)]
CALM = Forecast(
    tuple(Hour(BEGIN + dt.timedelta(hours=n), 0.0, 2.3, 0.5, 0.3) for n in range(-1, 12))
)


@pytest.fixture(scope="module")
def subs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An hour of Ha in which the focus runs away from the sixth sub on."""
    plan = demo_plan()
    start = SHOTS[6].start
    runs = Incident("focus", start, start + dt.timedelta(minutes=30), 2.0)
    e = make_evening(
        plan.sites[0], plan.rigs[0], plan.targets[0], plan.filters, SHOTS, CALM, 75.0, 0.0, [runs]
    )
    folder = tmp_path_factory.mktemp("night")
    shoot(e, folder, SHAPE)
    return folder


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    now = SHOTS[-1].start + dt.timedelta(minutes=6)
    made = stepped_session(tmp_path / "p.bichromus", "x", now=lambda: now)
    plan = {**demo_plan().model_dump(), "date": "2027-04-01", "fixed_clock": False}
    made.planning.set_plan("things", **plan)
    wait(lambda: made.planning.snapshot.view is not None)
    yield made
    made.close()


def test_subs_are_measured_as_they_arrive_and_what_is_wrong_is_told_once(
    session: Session, subs: Path
) -> None:
    watch = session.night_watch
    before = watch.look()
    assert before is not None
    assert (before.subs, before.watched, before.wrong) == ((), False, ())
    whole = session.planning.snapshot.view
    assert whole is not None
    said: list[str] = []
    session.message.connect(said.append)
    session.log.watch(str(subs))
    wait(lambda: len(watch.look().subs) == len(SHOTS))  # type: ignore[union-attr]
    end = SHOTS[-1].start + dt.timedelta(seconds=300)
    wait(
        lambda: (
            session.planning.snapshot.view is not None
            and session.planning.snapshot.view.lanes[0].stretches[0].start >= julian(end) - 1e-6
        )
    )
    now = watch.look()
    assert now is not None
    assert now.watched
    assert now.shot == "Ha"
    assert now.block is not None
    assert now.clock(now.now) == "23:35"
    assert now.next[-1].kind == "end"
    assert len(now.wrong) == 1
    assert "wider than at" in now.wrong[0]
    assert sum("wider than at" in words for words in said) == 1
    assert now.states[:6] == ("good",) * 6
    assert set(now.states[-3:]) <= {"poor", "out"}
    # what was shot counts, and the rest of the night is planned on it
    rest = session.planning.snapshot.view
    assert rest is not None
    held = {c.channel: c.had_h for c in rest.channels}
    assert held["Ha"] == pytest.approx(1.0)
    session.log.watch("")
    wait(
        lambda: (
            session.planning.snapshot.view is not None
            and session.planning.snapshot.view.lanes[0].stretches[0].start
            == whole.lanes[0].stretches[0].start
        )
    )


def test_an_old_night_in_the_folder_changes_no_plan(session: Session, subs: Path) -> None:
    session.planning.set_plan("another night", date="2027-04-08")
    wait(lambda: session.planning.snapshot.view.night.date.day == 8)  # type: ignore[union-attr]
    session.log.watch(str(subs))
    wait(lambda: len(session.night_watch.look().subs) == len(SHOTS))  # type: ignore[union-attr]
    view = session.planning.snapshot.view
    assert view is not None
    assert view.lanes[0].stretches[0].start > view.night.start
    assert view.night.date == dt.date(2027, 4, 8)


def test_an_eventful_evening_has_each_within_subs_of_one_filter() -> None:
    names = ["Ha"] * 20 + ["R", "G", "B"] * 6 + ["O3"] * 22
    shots = [Exposure(c, BEGIN + dt.timedelta(seconds=325 * n), 300.0) for n, c in enumerate(names)]
    found = eventful(shots)
    assert [i.kind for i in found] == ["focus", "cloud", "stopped", "warm"]
    for i in found:
        n = next(k for k, s in enumerate(shots) if s.start == i.start)
        assert len({s.filter for s in shots[n - 3 : n + 3]}) == 1
        assert i.end > i.start


def test_a_rig_focused_by_temperature_is_planned_and_watched_by_the_air(
    session: Session, tmp_path: Path
) -> None:
    plan = session.state.plan
    rig = plan.rigs[0].model_copy(update={"focus_by": "temperature", "focus_after_c": 1.2})
    session.planning.set_plan("a rig", rigs=(rig, *plan.rigs[1:]), cooling_c_h=0.8)

    def planned_min() -> float:
        view = session.planning.snapshot.view
        assert view is not None
        return view.lanes[0].station.overheads.refocus_min

    wait(lambda: planned_min() == pytest.approx(90))  # 1.2 degrees at 0.8 an hour
    e = make_evening(
        plan.sites[0], rig, plan.targets[0], plan.filters, SHOTS, CALM, 75.0, 0.0, cooling_c_h=3.0
    )
    shoot(e, tmp_path / "night", SHAPE)
    session.log.watch(str(tmp_path / "night"))
    wait(lambda: len(session.night_watch.look().subs) == len(SHOTS))  # type: ignore[union-attr]
    now = session.night_watch.look()
    assert now is not None
    assert [s.air_c for s in now.subs[:3]] == [9.0, 8.7, 8.5]
    assert any("°C colder than at the last focus" in w for w in now.wrong)


@given(
    st.integers(1, 60), st.floats(30, 600), st.floats(10, 200), st.floats(1, 8), st.floats(1, 60)
)
def test_pauses_for_the_focus_leave_every_sub_its_time(
    subs: int, seconds: float, every: float, run: float, slack_s: float
) -> None:
    runs = int(subs * (seconds + slack_s + 60 * run) / 60 / every) + 1
    length = (subs * (seconds + slack_s) + runs * run * 60) / 86400
    block = ("Ha", 2461500.0, 2461500.0 + length, subs, seconds)
    shots = shots_of([block], FocusPauses(every, run))
    assert len(shots) == subs
    starts = [(s.start - shots[0].start).total_seconds() for s in shots]
    gaps = [b - a - seconds for a, b in pairwise(starts)]
    assert min(gaps, default=0) >= -1
    assert starts[-1] + seconds <= length * 86400 + 1
    pauses = [b for b, gap in zip(starts[1:], gaps, strict=True) if gap >= run * 60 - 1]
    unfocused = np.diff([0.0, *pauses, starts[-1]])
    assert max(unfocused) <= 60 * (every + run) + seconds + max(gaps, default=0) + 2

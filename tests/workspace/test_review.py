"""An evening rehearsed from plan to plan: shot, taken in, graded, decided, stacked; truth from the
simulator.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from bichromus.core.advise.enough import Growth, advise_enough
from bichromus.core.files import read_picture
from bichromus.core.files.frames import open_frame
from bichromus.core.measure.grading import Grade
from bichromus.core.measure.subs import SubMeasure
from bichromus.core.measure.worth import leaving_out, still_helps, worths
from bichromus.core.numerics.sampling import View
from bichromus.core.simulate.evening import OFFSET_ADU, Air, Exposure
from bichromus.core.simulate.forecast import Forecast, Hour
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.planning.rehearsal import (
    Evening,
    make_camera,
    make_evening,
    shoot,
    write_sub,
)
from bichromus.workspace.session import Session
from bichromus.workspace.subs import controller
from bichromus.workspace.subs.frames import LockedStretch, read_view
from bichromus.workspace.subs.grading import measure_file
from bichromus.workspace.subs.groups import Group
from bichromus.workspace.viewing.request import Request
from stepped import SteppedLatest, stepped_session
from waiting import wait

SHAPE = (300, 440)


def evening(channels: list[tuple[str, int]], seconds: float = 300.0) -> Evening:
    """A calm, dark evening on the demo's target; what each sub meets is set by the test."""
    plan = demo_plan()
    start = dt.datetime(2027, 3, 10, 9, 30, tzinfo=dt.UTC)
    names = [c for c, n in channels for _ in range(n)]
    shots = [
        Exposure(c, start + dt.timedelta(seconds=(seconds + 20) * n), seconds)
        for n, c in enumerate(names)
    ]
    calm = Forecast(
        tuple(Hour(start + dt.timedelta(hours=h), 0.0, 2.2, 1.0, 0.5) for h in range(-1, 10))
    )
    return make_evening(
        plan.site_named("Ridge"),
        plan.rigs[0],
        plan.target_named(),
        plan.filters,
        shots,
        calm,
        mishaps=0.0,
    )


FAULTS = {
    "cloud": {"light": 0.3},
    "focus": {"fwhm_arcsec": 9.0},
    "drift": {"drift_px": 7.0},
    "sky": {"sky": 40.0},
    "trail": {"trail": True},
}


def with_faults(e: Evening, faults: dict[int, str]) -> Evening:
    return replace(
        e,
        air=tuple(
            replace(a, **FAULTS[faults[n]]) if n in faults else a for n, a in enumerate(e.air)
        ),
    )


@pytest.fixture(scope="module")
def shot(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[int, str], Evening]:
    """Two channels, one of each fault in both."""
    faults = {
        2: "cloud",
        4: "focus",
        6: "drift",
        8: "trail",
        9: "sky",
        13: "trail",
        15: "cloud",
        17: "focus",
        19: "sky",
        20: "drift",
    }
    e = with_faults(evening([("Ha", 11), ("O3", 11)]), faults)
    folder = tmp_path_factory.mktemp("evening")
    shoot(e, folder, SHAPE)
    return folder, faults, e


@pytest.fixture
def session(tmp_path: Path, shot: tuple[Path, dict[int, str], Evening]) -> Iterator[Session]:
    found = stepped_session(
        tmp_path / "p.bichromus", "p", now=lambda: dt.datetime(2027, 3, 11, 0, tzinfo=dt.UTC)
    )
    found.follow()
    found.planning.set_plan("the demo's", **{**demo_plan().model_dump(), "date": "2027-03-11"})
    wait(lambda: found.planning.snapshot.view is not None)
    found.log.take_in(shot[0])
    wait(lambda: len(found.log.snapshot.subs) == 22 and found.subs.snapshot.group is not None)
    yield found
    found.close()


def reviewed(session: Session, channel: str) -> None:
    """Choose a channel's group and have it measured."""
    reviewer = session.subs
    reviewer.choose_channel(channel)
    wait(lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.channel == channel)
    reviewer.set_active(True)
    wait(
        lambda: (
            reviewer.snapshot.group is not None
            and reviewer.snapshot.group.channel == channel
            and reviewer.snapshot.group.measured == 11
        )
    )


def test_faults_are_suggested_decided_undone_and_remembered(
    session: Session, shot: tuple[Path, dict[int, str], Evening]
) -> None:
    _, faults, e = shot
    reviewer = session.subs
    reviewed(session, "O3")
    assert reviewer.snapshot.group is not None
    named = {
        n + 11: r.grade.causes[0]
        for n, r in enumerate(reviewer.snapshot.group.subs)
        if r.grade and r.grade.causes
    }
    assert named == {n: c for n, c in faults.items() if n >= 11}
    for r, air in zip(reviewer.snapshot.group.subs, e.air[11:], strict=True):
        assert r.measure is not None
        if not air.drift_px and not air.trail:
            assert r.measure.fwhm_px == pytest.approx(
                air.fwhm_arcsec / make_camera(e, SHAPE).scale_arcsec, rel=0.12
            )
    assert session.log.snapshot.hours["O3"] == pytest.approx(11 * 300 / 3600)
    # haze at 0.3 of the light is worth too little, a trail alone is healed by the stack
    out = [r.grade.causes[0] for r in reviewer.snapshot.group.subs if r.suggested_out and r.grade]
    assert sorted(out) == ["cloud", "drift", "focus", "sky"]
    assert [r.grade.causes[0] for r in reviewer.snapshot.group.subs if r.helps and r.grade] == [
        "trail"
    ]
    assert reviewer.snapshot.group.effect.seconds == 4 * 300
    assert reviewer.snapshot.group.effect.plain > 0.05
    assert -0.12 < reviewer.snapshot.group.effect.weighted < 0
    advice = reviewer.advice()
    assert advice is not None
    assert "20 min" in advice.sentence
    assert reviewer.take_suggestions() == 5
    wait(lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.waiting == 0)
    assert session.log.snapshot.hours["O3"] == pytest.approx(7 * 300 / 3600)
    lost = {c for row in session.log.snapshot.view.rows for c in row.lost_to()}
    assert lost == {"cloud", "drift", "focus", "sky"}
    session.document.undo()
    wait(lambda: reviewer.snapshot.group is not None and reviewer.snapshot.group.waiting == 5)
    assert session.log.snapshot.hours["O3"] == pytest.approx(11 * 300 / 3600)
    reviewer.go(3)
    reviewer.decide(False)
    wait(
        lambda: reviewer.snapshot.group is not None and not reviewer.snapshot.group.subs[3].sub.kept
    )
    assert reviewer.snapshot.group.subs[3].sub.reason == "by hand"
    assert reviewer.snapshot.index == 4
    folder = session.document.folder
    session.close()
    again = stepped_session(folder)
    again.follow()
    wait(lambda: again.subs.snapshot.group is not None)
    again.subs.choose_channel("O3")
    wait(
        lambda: again.subs.snapshot.group is not None and again.subs.snapshot.group.channel == "O3"
    )
    assert again.subs.snapshot.group is not None
    assert again.subs.snapshot.group.measured == 11  # measured once, kept
    assert again.log.snapshot.hours["O3"] == pytest.approx(10 * 300 / 3600)
    again.close()


def test_a_judgement_on_its_way_never_moves_the_person(
    session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The person steps on in the middle of a judgement: the sub in view stays the person's."""
    review = session.subs
    wait(lambda: review.snapshot.group is not None and not session.jobs.busy)
    assert isinstance(session.previews, SteppedLatest)
    targets = [7, 2, 5]
    make = controller.make_group

    def stepped_on(*values: Any) -> Group:
        made = make(*values)
        if targets:
            review.go(targets.pop(0))
        return made

    monkeypatch.setattr(controller, "make_group", stepped_on)
    for target in tuple(targets):
        before = review.snapshot
        review.refresh()
        while session.previews.step():
            pass
        assert review.snapshot.index == target
        assert review.snapshot.group is not before.group
    # a sub that is decided meanwhile stands in the new group as decided, and the step goes on
    review.go(3)
    here = review.snapshot.current
    assert here is not None
    review.decide(False)
    assert review.snapshot.index == 4
    wait(lambda: review.snapshot.group is not None and not review.snapshot.group.subs[3].sub.kept)
    assert review.snapshot.index == 4
    assert review.snapshot.group is not None
    assert review.snapshot.group.subs[3].sub.identity == here.sub.identity
    # what was seen before is as it was: nobody changes a snapshot
    assert before.index == 2


def test_a_group_that_is_chosen_while_another_is_judged_wins(session: Session) -> None:
    review = session.subs
    wait(lambda: len(review.snapshot.groups) == 2 and not session.jobs.busy)
    assert isinstance(session.previews, SteppedLatest)
    first, second = review.snapshot.groups
    for key in (first, second, first, second):
        review.refresh()
        review.choose(key)
    while session.previews.step():
        pass
    assert review.snapshot.group is not None
    assert review.snapshot.group.key == second
    assert review.snapshot.index < len(review.snapshot.group.subs)


def test_the_night_is_stacked_and_the_next_plan_changes(session: Session) -> None:
    before = (
        {c.channel: c.missing_h for c in session.planning.snapshot.view.channels}
        if session.planning.snapshot.view
        else {}
    )
    reviewer = session.subs
    reviewed(session, "Ha")
    made: list[object] = []
    reviewer.stacked.connect(made.append)
    session.stack_night()
    wait(lambda: bool(made) and not session.jobs.busy and bool(session.channels.snapshot.origins))
    assert session.channels.snapshot.names == ["Ha", "O3"]  # no other stacks: they can be blended
    ha = session.channels.snapshot.channel("Ha")
    assert ha.preliminary
    assert "preliminary" in ha.label
    assert ha.hours == pytest.approx(10 * 300 / 3600, abs=0.09)
    wait(lambda: session.blend.snapshot.recipe is not None)
    picture = read_picture(Path(session.state.sources[0].path))
    one = (
        read_picture(Path(reviewer.snapshot.group.subs[0].sub.file))
        if reviewer.snapshot.group
        else picture
    )
    assert picture.data.shape == one.data.shape
    noise = [np.diff(p.data[20:60, 20:100], axis=1) for p in (picture, one)]
    gain = np.nanmedian(np.abs(noise[1])) / np.nanmedian(np.abs(noise[0]))
    assert gain > 2.2  # some ten frames
    assert (
        np.nanmax(picture.data[:, :]) < 60_000
    )  # hot pixels and trail are gone, stars are not saturated
    session.stack_night()  # the same night again takes the place of the first
    wait(lambda: len(made) == 2 and not session.jobs.busy)
    assert len(session.state.sources) == 2
    wait(
        lambda: (
            session.planning.snapshot.view is not None
            and {c.channel: c.had_h for c in session.planning.snapshot.view.channels}["Ha"] > 0.8
        )
    )
    assert session.planning.snapshot.view is not None
    assert {c.channel: c.missing_h for c in session.planning.snapshot.view.channels}[
        "O3"
    ] != before["O3"]


def test_subs_are_seen_under_one_stretch_and_read_ahead(session: Session) -> None:
    reviewer = session.subs
    reviewed(session, "Ha")
    heard: list[tuple[int, np.ndarray]] = []
    reviewer.pictures.rendered.connect(lambda r, p: heard.append((r.id, p)))
    assert reviewer.snapshot.shape == SHAPE
    view = View(0.0, 0.0, 2.0, SHAPE[1] // 2, SHAPE[0] // 2)
    reviewer.go(0)
    reviewer.pictures.request_view(Request(1, view))
    wait(lambda: [h for h in heard if h[0] == 1])
    wait(lambda: reviewer.pictures.ahead >= 10)
    reviewer.step(2)  # the cloudy one is there already: the answer comes at once
    reviewer.pictures.request_view(Request(2, view))
    assert heard[-1][0] == 2
    first, cloudy = (next(p for i, p in heard if i == n) for n in (1, 2))
    assert first.shape == (SHAPE[0] // 2, SHAPE[1] // 2, 3)
    stars = first[..., 0] > 120
    assert cloudy[..., 0][stars].mean() < first[..., 0][stars].mean() - 25
    thumbs = (
        [reviewer.pictures.thumb_of(r.sub.file) for r in reviewer.snapshot.group.subs]
        if reviewer.snapshot.group
        else []
    )
    assert sum(t is not None for t in thumbs) >= 8


def test_a_view_of_a_file_is_the_view_of_its_pixels(
    shot: tuple[Path, dict[int, str], Evening],
) -> None:
    path = next(shot[0].rglob("Ha*.fits"))
    frame, whole = open_frame(path), read_picture(path).data
    assert isinstance(frame.stored, np.memmap)
    assert np.array_equal(frame.region(0, SHAPE[0]), whole)
    assert np.allclose(read_view(frame, View(40, 20, 1.0, 50, 30)), whole[20:50, 40:90])
    binned = whole[20:80, 40:140].reshape(30, 2, 50, 2).mean((1, 3))
    assert np.allclose(read_view(frame, View(40, 20, 2.0, 50, 30)), binned, atol=0.01)
    assert np.isnan(read_view(frame, View(-100, -100, 1.0, 20, 20))).all()
    grey = LockedStretch(500.0, 5.0).grey(np.array([[500.0, np.nan, 60_000.0]], np.float32), 1.0)
    assert grey[0, 0, 0] < 60 < 200 < grey[0, 2, 0]


def test_the_simulated_camera_keeps_its_books(tmp_path: Path) -> None:
    e = evening([("O3", 2)])
    camera = make_camera(e, SHAPE)
    dark = camera.expose("O3", 300.0, Air(light=1e-6, sky=0.0), 1).astype(float)
    assert np.median(dark) == pytest.approx(OFFSET_ADU + 300 * e.rig.dark_e_s, abs=1.0)
    one, two = (
        np.median(camera.expose("O3", 300.0, Air(light=1e-6, sky=s), 2).astype(float)) - OFFSET_ADU
        for s in (20.0, 40.0)
    )
    assert two == pytest.approx(2 * one, rel=0.05)
    path = write_sub(e, camera, 0, tmp_path)
    stamp = path.stat().st_mtime_ns
    assert write_sub(e, camera, 0, tmp_path).stat().st_mtime_ns == stamp  # what was shot stays
    again = make_evening(e.site, e.rig, e.target, e.filters, e.shots, Forecast(()), mishaps=0.0)
    assert again.seed == e.seed
    mosaic = (
        make_camera(replace(e, rig=demo_plan().rigs[1]), SHAPE)
        .expose("O3", 300.0, Air(sky=30.0), 3)
        .astype(float)
    )
    cells = [np.median(mosaic[y::2, x::2]) - OFFSET_ADU for y, x in ((0, 0), (0, 1), (1, 1))]
    assert cells[1] > 3 * cells[0]  # oxygen is green and blue
    assert measure_file(path).fwhm_px == pytest.approx(1.9, rel=0.15)


def test_worth_and_effects_keep_their_laws() -> None:
    def measure(noise: float, fwhm: float) -> SubMeasure:
        return SubMeasure(
            500.0, noise, 100, fwhm, 0.1, False, (np.zeros(0), np.zeros(0)), np.zeros(0)
        )

    rng = np.random.default_rng(3)
    for _ in range(20):
        measures = [measure(rng.uniform(3, 9), rng.uniform(2, 4)) for _ in range(9)]
        grades = [Grade(float(rng.uniform(0.1, 1)), (), "") for _ in range(9)]
        out, kept = rng.random(9) < 0.4, np.ones(9, bool)
        effect = leaving_out(measures, grades, list(out), list(kept), [300.0] * 9)
        assert effect.weighted <= 0  # with right weights nothing is gained by leaving out
        assert effect.seconds == 300 * out.sum()
        share = worths(measures, grades)[~out].sum() / worths(measures, grades).sum()
        assert effect.weighted == pytest.approx(share**0.5 - 1)
    same = [measure(5, 3)] * 4
    equal = leaving_out(
        same, [Grade(1.0, (), "")] * 4, [True, False, False, False], [True] * 4, [60.0] * 4
    )
    assert equal.plain == pytest.approx(equal.weighted) == pytest.approx(0.75**0.5 - 1)
    assert still_helps(("cloud",), 0.3)
    assert not still_helps(("cloud", "focus"), 0.9)
    assert not still_helps((), 1.0)


def test_enough_is_said_with_its_figures() -> None:
    ha = Growth("Ha", 8.0, 6.0, 40.0, 4.0)
    o3 = Growth("O3", 4.0, 16.0, 10.0, 4.0, hour_gain=0.5)
    assert ha.now == pytest.approx(40 * 2**0.5)
    assert o3.goal == pytest.approx(20)
    assert o3.next_hour == pytest.approx(10 * (4.5 / 4) ** 0.5 - 10)
    advice = advise_enough([ha, o3])
    assert advice is not None
    assert advice.channel == "O3"
    assert "adds 0.6 to its SNR of 10.0" in advice.sentence
    assert "Ha has enough" in advice.sentence
    done = advise_enough([ha, replace(o3, hours=17.0)])
    assert done is not None
    assert done.tone == "good"
    assert advise_enough([replace(ha, goal_h=None)]) is None
    blind = advise_enough([Growth("S2", 1.0, 5.0, None, None)])
    assert blind is not None
    assert "S2 lacks most: 4.0 h" in blind.sentence

"""The night watch: what goes wrong is told within two subs, a clean evening is left in peace."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pytest
from test_coming import aim, planned, station

from bichromus.core.advise.night_watch import (
    FocusRuns,
    Notice,
    WatchedSub,
    focused_at,
    notice_words,
    notices,
)
from bichromus.core.measure.grading import sharpness
from bichromus.core.measure.subs import measure_sub
from bichromus.core.measure.transparency import transparency
from bichromus.core.model.rig import FILTERS, RIGS, SITES
from bichromus.core.plan.actions import actions_of
from bichromus.core.plan.order import Overheads
from bichromus.core.plan.station import Demand
from bichromus.core.simulate.evening import (
    Exposure,
    Incident,
    SimulatedCamera,
    weather,
    with_incidents,
)
from bichromus.core.simulate.forecast import Forecast, Hour

BEGIN = dt.datetime(2027, 4, 3, 9, 30, tzinfo=dt.UTC)
STEP = dt.timedelta(seconds=325)
CAMERA = SimulatedCamera(RIGS["Ridge"], FILTERS, SITES["Ridge"].sky_mag, (220, 330), {})


def evening(
    seed: int, count: int, incidents: Sequence[Incident] = (), moon: Sequence[float] = ()
) -> list[WatchedSub]:
    """Ha through the simulated camera, measured as subs are; ``moon`` are sky factors by sub."""
    shots = [Exposure("Ha", BEGIN + n * STEP, 300.0) for n in range(count)]
    hours = tuple(Hour(BEGIN + dt.timedelta(hours=n - 1), 0.0, 2.3, 0.5, 0.3) for n in range(16))
    bright = dict(zip([s.start for s in shots], moon, strict=False))
    air = weather(
        shots,
        Forecast(hours),
        RIGS["Ridge"],
        lambda _t: -60.0,
        lambda _c, t: bright.get(t, 1.0),
        seed,
        mishaps=0.0,
    )
    measured = []
    for n, (shot, calm) in enumerate(zip(shots, air, strict=True)):
        if any(i.kind == "stopped" and i.start <= shot.start <= i.end for i in incidents):
            continue
        met = with_incidents(calm, shot.start, incidents)
        frame = CAMERA.expose("Ha", 300.0, met, 1000 * seed + n).astype(np.float32)
        measured.append((shot.start, measure_sub(frame), -10.0 + met.warmer_c))
    best = max((m for _, m, _ in measured), key=sharpness)
    return [
        WatchedSub(t, 300.0, "Ha", m.fwhm_px, transparency(best, m), m.noise, m.ellipticity, warm)
        for t, m, warm in measured
    ]


def told(subs: Sequence[WatchedSub], kind: str) -> dt.datetime | None:
    """When a kind is told first, as the subs arrive one by one."""
    for n in range(1, len(subs) + 1):
        if any(x.kind == kind for x in notices(subs[:n], subs[n - 1].end)):
            return subs[n - 1].end
    return None


def test_ten_clean_evenings_are_left_in_peace() -> None:
    for seed in range(10):
        subs = evening(seed, 12)
        assert notices(subs, subs[-1].end) == []


@pytest.mark.parametrize(
    ("kind", "incident", "size"),
    [("focus", "focus", 1.8), ("light", "cloud", 0.45), ("warm", "warm", 3.0)],
)
def test_what_goes_wrong_is_told_within_two_subs(kind: str, incident: str, size: float) -> None:
    start = BEGIN + 6 * STEP
    subs = evening(20, 12, [Incident(incident, start, start + 4 * STEP, size)])  # type: ignore[arg-type]
    when = told(subs, kind)
    assert when is not None
    seen = next(
        s.start
        for s in subs
        if (kind == "focus" and (s.fwhm_px or 0) > 1.15 * (subs[0].fwhm_px or 9))
        or (kind == "light" and (s.light or 0) < 0.75)
        or (kind == "warm" and (s.temperature_c or 0) > -8.5)
    )
    assert when <= seen + 2 * STEP
    found = notices(subs, subs[-1].end)
    assert {n.kind for n in found} == {kind}
    assert len(found) == 1  # once
    assert found[0].over is not None
    assert start <= found[0].since < found[0].over


def test_a_moon_that_rises_and_a_camera_that_stops_are_told() -> None:
    rising = [1.0] * 5 + [1.0 + 0.6 * n for n in range(1, 8)]
    subs = evening(30, 12, moon=rising)
    assert {n.kind for n in notices(subs, subs[-1].end)} == {"sky"}
    last = subs[-1]
    assert notices(subs[:4], subs[3].end + dt.timedelta(seconds=890)) == []
    found = notices(subs[:4], subs[3].end + dt.timedelta(seconds=960))
    assert [n.kind for n in found] == ["stopped"]
    late = notices(subs[:4], subs[3].end + dt.timedelta(seconds=960), dt.timedelta(seconds=120))
    assert late == []
    assert notices([], last.end) == []


def steady(count: int = 8, **more: float) -> list[WatchedSub]:
    return [
        WatchedSub(BEGIN + n * STEP, 300.0, "Ha", 2.0, 1.0, 3.0, 0.1, -10.0, **more)  # type: ignore[arg-type]
        for n in range(count)
    ]


def test_one_sub_alone_and_low_targets_are_no_reason_to_speak() -> None:
    gust = steady()
    gust[5] = replace(gust[5], fwhm_px=3.5, light=0.4, ellipticity=0.5)
    assert notices(gust, gust[-1].end) == []
    low = [
        replace(s, fwhm_px=2.0 * x**0.6, airmass=x)
        for s, x in zip(steady(), np.linspace(1.0, 2.2, 8), strict=True)
    ]
    assert notices(low, low[-1].end) == []
    # each filter is held against its own
    other = [replace(s, filter="O3", fwhm_px=3.0, noise=9.0, light=0.2) for s in steady()]
    later = [replace(s, start=s.start + 8 * STEP) for s in other]
    assert notices([*steady(), *later], later[-1].end) == []


def test_air_that_has_changed_since_the_last_focus_wants_another() -> None:
    pause = dt.timedelta(minutes=3)
    cooling = [
        replace(s, air_c=9.0 - 0.3 * n, start=s.start + (pause if n >= 8 else 0 * pause))
        for n, s in enumerate(steady(14))
    ]
    cooling[2] = replace(cooling[2], air_c=None)  # a header that does not tell it
    focus = FocusRuns(3.0, 1.0)
    assert focused_at(cooling, focus) == [cooling[0].start, cooling[8].start]
    found = [n for n in notices(cooling, cooling[-1].end, focus=focus) if n.kind == "air"]
    assert [(n.since, n.against, n.over) for n in found] == [
        (cooling[4].start, cooling[0].start, cooling[8].start),  # 1.2 degrees, and again
        (cooling[12].start, cooling[8].start, None),
    ]
    assert told_with(cooling, focus) == cooling[5].end  # two in a row, not one
    assert notices(cooling, cooling[-1].end, focus=FocusRuns(3.0)) == []
    assert notices(cooling, cooling[-1].end) == []
    words = notice_words(found[0], lambda t: t.strftime("%H:%M"))
    assert words == "Air 2.1 °C colder than at the last focus, 09:30: refocus."
    warmer = replace(found[0], figure=1.2)
    assert "1.2 °C warmer" in notice_words(warmer, lambda t: t.strftime("%H:%M"))


def told_with(subs: Sequence[WatchedSub], focus: FocusRuns) -> dt.datetime | None:
    """When something is told first, as the subs arrive one by one."""
    arrived = (subs[:n] for n in range(1, len(subs) + 1))
    return next((a[-1].end for a in arrived if notices(a, a[-1].end, focus=focus)), None)


def test_a_notice_says_its_figure_and_what_to_do() -> None:
    def clock(t: dt.datetime) -> str:
        return t.strftime("%H:%M")

    wide = [*steady(), *(replace(s, start=s.start + 8 * STEP, fwhm_px=2.4) for s in steady(3))]
    (n,) = notices(wide, wide[-1].end)
    assert notice_words(n, clock) == "Stars 20 % wider than at 09:30: refocus."
    sky = Notice("sky", BEGIN, 2.04, BEGIN)
    assert notice_words(sky, clock, "the Moon is coming up").endswith("the Moon is coming up.")
    for kind, words in (
        ("light", "cloud, or dew"),
        ("warm", "check the cooling"),
        ("shape", "guiding"),
        ("stopped", "the camera has stopped"),
    ):
        assert words in notice_words(Notice(kind, BEGIN, 1.0, BEGIN), clock)  # type: ignore[arg-type]


def test_the_next_actions_come_in_their_order_and_every_refocus_is_there() -> None:
    lane = planned(aims=(aim(Ha=Demand(0.0, 3.0), O3=Demand(0.0, 30.0)),)).lanes[0]
    actions = actions_of(lane)
    moments = [a.moment for a in actions]
    assert moments == sorted(moments)
    kinds = [a.kind for a in actions]
    assert (kinds[0], kinds[-1]) == ("begin", "end")
    assert kinds.count("flip") == 1
    shot = lane.blocks[-1].end - lane.blocks[0].start
    fresh = [lane.blocks[0].start, *(a.moment for a in actions if a.kind in ("refocus", "flip"))]
    gaps = np.diff([*fresh, lane.blocks[-1].end]) * 1440
    assert max(gaps) <= Overheads().refocus_min + 5 + 1e-6
    assert kinds.count("refocus") <= shot * 1440 / Overheads().refocus_min
    changed = actions_of(
        planned(
            station(overheads=Overheads(focus_offsets=False)),
            aims=(aim(Ha=Demand(0.0, 3.0), O3=Demand(0.0, 30.0)),),
        ).lanes[0]
    )
    assert [a.kind for a in changed].count("refocus") <= kinds.count("refocus")
    assert actions_of(replace(lane, blocks=())) == []


def test_the_rest_of_a_night_goes_on_with_what_is_being_shot() -> None:
    goals = aim(Ha=Demand(0.0, 4.0), S2=Demand(0.0, 4.0))
    whole = planned(aims=(goals,)).lanes[0]
    since = whole.stretches[0].start + 1.0 / 24
    for name in ("Ha", "S2"):
        rest = planned(aims=(goals,), since=since, current=(goals.name, name)).lanes[0]
        assert rest.blocks[0].start >= since - 1e-9
        if {b.filter for b in rest.blocks if b.start < rest.stretches[0].end} == {"Ha", "S2"}:
            assert rest.blocks[0].filter == name

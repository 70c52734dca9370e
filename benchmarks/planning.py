"""The almanac once warm: a night, a year, an allocation over two weeks, the plan of four rigs over
thirty nights, and the list of a month.
"""

from __future__ import annotations

import datetime as dt

import numpy as np

from bichromus.core.model.channel import LINES, WAVELENGTH_NM
from bichromus.core.plan.allocate import Want, Window, allocate
from bichromus.core.plan.budget import BandFilter, Glow, LightRig, PassBand
from bichromus.core.plan.coming import Weather, plan_coming
from bichromus.core.plan.earth import Place
from bichromus.core.plan.month import usable_hours
from bichromus.core.plan.night import Rules, Target, plan_night
from bichromus.core.plan.objects import every_object
from bichromus.core.plan.season import plan_season
from bichromus.core.plan.station import Aim, Demand, SiteSky, Station

from .common import Result, best


def run() -> list[Result]:
    place, target = Place(-43.98, 170.46, 720), Target(171.0, -59.1667)
    first = dt.date(2027, 1, 1)
    plan_season(place, first, first + dt.timedelta(days=364), target)
    night = best(lambda: plan_night(place, dt.date(2027, 3, 17), target), 5)
    year = best(lambda: plan_season(place, first, first + dt.timedelta(days=364), target))
    rng = np.random.default_rng(1)
    windows = [
        Window(f"{n} {kind}", float(rng.uniform(0, 6)), 0.9)
        for n in range(14)
        for kind in ("dark", "moon")
    ]
    wants = [
        Want(
            name, 30.0, 0.01, 1.6, 300.0, {w.name: float(rng.uniform(0.005, 0.1)) for w in windows}
        )
        for name in ("Ha", "O3", "S2", "R", "G", "B")
    ]
    share = best(lambda: allocate(windows, wants))
    stations, aims = _rigs(place), _targets(target)
    coming = best(lambda: plan_coming(stations, aims, dt.date(2027, 3, 17), Weather()))
    one = best(lambda: plan_coming(stations[:1], aims[:1], dt.date(2027, 3, 17), Weather()))
    objects = every_object()
    ra, dec = (np.array([getattr(x, key) for x in objects]) for key in ("ra", "dec"))
    month = [first + dt.timedelta(days=n) for n in range(31)]
    listed = best(lambda: usable_hours(place, month, Rules(), ra, dec))
    return [
        Result("a night, warm", night * 1000, 50, "ms"),
        Result("a year, warm", year, 0.3, "s"),
        Result("allocation of six channels over two weeks", share, 0.5, "s"),
        Result("four rigs, thirty nights, three targets, seven filters", coming, 1.0, "s"),
        Result("one rig, one target, thirty nights", one, 0.25, "s"),
        Result("what to shoot in a month, of the whole catalogue", listed, 2.0, "s"),
    ]


def _rigs(place: Place) -> list[Station]:
    lines = [BandFilter(c, (PassBand(c, WAVELENGTH_NM[c], 3.0, 0.92),), 2.0) for c in LINES]
    broad = [BandFilter(c, (PassBand(c, WAVELENGTH_NM[c], 90.0, 0.92),)) for c in "RGB"]
    rig = LightRig(80, 440, 3.76, 0.85, 0.8, 1.5, dark_e_s=0.002)
    return [
        Station(
            f"R{n}",
            f"S{n}",
            rig,
            (*lines, *broad),
            Place(place.lat + n, place.lon + 2 * n, 100.0 * n),
            SiteSky(21.6 - 0.5 * n),
            2.84,
            50_000.0,
        )
        for n in range(4)
    ]


def _targets(target: Target) -> list[Aim]:
    glow = Glow({"Ha": 100.0, "O3": 18.0, "S2": 13.0, "Hb": 30.0}, dict.fromkeys("RGB", 23.5))
    wanted = {c: Demand() for c in (*LINES, *"RGB")}
    places = (target, Target(200.0, -45.0), Target(130.0, -30.0))
    return [Aim(f"T{n}", t, glow, wanted) for n, t in enumerate(places)]

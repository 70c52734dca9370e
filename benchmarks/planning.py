"""The almanac once warm: a night, a year, and an allocation over two weeks."""

from __future__ import annotations

import datetime as dt

import numpy as np

from bichromus.core.plan.allocate import Want, Window, allocate
from bichromus.core.plan.earth import Place
from bichromus.core.plan.night import Target, plan_night
from bichromus.core.plan.season import plan_season

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
    return [
        Result("a night, warm", night * 1000, 50, "ms"),
        Result("a year, warm", year, 0.3, "s"),
        Result("allocation of six channels over two weeks", share, 0.5, "s"),
    ]

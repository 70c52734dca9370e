"""The plan beyond tonight: how many nights it takes, and the nights of a year."""

from __future__ import annotations

import datetime as dt

from ...core.plan.earth import Place
from ...core.plan.horizon import make_horizon
from ...core.plan.night import Rules, Target
from ...core.plan.program import MISSING_H
from ...core.plan.season import SeasonNight, plan_season
from ..library.things import PlanState
from .view import PlanView


def nights_needed(view: PlanView) -> int | None:
    """Nights until every goal is reached, tonight included; None when fourteen are not enough."""
    if all(c.missing_h <= MISSING_H for c in view.channels):
        return 0
    if view.coming is None:
        left = [c.missing_h - view.tonight.gained.get(c.channel, 0.0) for c in view.channels]
        return 1 if max(left) <= MISSING_H else None
    if view.coming.share < 0.999:
        return None
    used = [
        name for name, hours in view.coming.hours.items() if any(h > 0.05 for h in hours.values())
    ]
    return 1 + len({name.partition(" ")[0] for name in used})


def year_of(view: PlanView, plan: PlanState) -> list[SeasonNight]:
    """Every night of the year that begins with the planned one."""
    place = Place(view.site.lat, view.site.lon, view.site.elevation_m)
    rules = Rules(plan.min_altitude, plan.sun_below, horizon=make_horizon(view.site.horizon))
    return plan_season(
        place,
        view.night.date,
        view.night.date + dt.timedelta(days=364),
        Target(view.target.ra, view.target.dec),
        rules,
    )

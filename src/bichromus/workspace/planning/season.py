"""The plan beyond tonight: how many nights it takes, and the nights of a year."""

from __future__ import annotations

import datetime as dt

from ...core.plan.night import Target
from ...core.plan.season import SeasonNight, plan_season
from ..library.things import PlanState
from .stations import place_of, rules_of
from .view import PlanView


def year_of(view: PlanView, plan: PlanState) -> list[SeasonNight]:
    """Every night of the year that begins with the planned one."""
    return plan_season(
        place_of(view.site),
        view.night.date,
        view.night.date + dt.timedelta(days=364),
        Target(view.target.ra, view.target.dec),
        rules_of(plan, view.site),
    )

"""Moon and sky of each night of the log, from its site and the times of its subs."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from dataclasses import replace
from typing import Final

import numpy as np

from ...core.plan.dates import julian
from ...core.plan.earth import Place
from ...core.plan.moment import conditions
from ...core.plan.night import Target
from ..library.things import PlanState, SiteThing
from .runs import NightRow, SkyFigures

_BLOCK_DAYS: Final = 64  # one ephemeris serves nights that lie together


def with_sky(rows: list[NightRow], plan: PlanState) -> list[NightRow]:
    """Moon and sky of each row, from its site and the times of its subs."""
    if not plan.sites or not plan.targets:
        return rows
    aim = plan.target_named()
    target = Target(aim.ra, aim.dec)
    groups: dict[tuple[str, int], list[int]] = defaultdict(list)
    moments: list[np.ndarray] = []
    for number, row in enumerate(rows):
        site = _site(plan, row.contributor)
        times = _times(row, site.lon)
        moments.append(times)
        groups[site.name, int(times[0]) // _BLOCK_DAYS].append(number)
    out = list(rows)
    for (name, _), numbers in groups.items():
        site = plan.site_named(name)
        utc = np.concatenate([moments[n] for n in numbers])
        sky = conditions(Place(site.lat, site.lon, site.elevation_m), target, utc, site.sky_mag)
        place = 0
        for n in numbers:
            part = slice(place, place + len(moments[n]))
            place = part.stop
            out[n] = replace(
                rows[n],
                sky=SkyFigures(
                    *(
                        float(v[part].mean())
                        for v in (sky.lit, sky.moon, sky.distance, sky.target, sky.sky_mag)
                    )
                ),
            )
    return out


def _times(row: NightRow, longitude: float) -> np.ndarray:
    """Five moments from its first sub to its last; the middle of the night where no times are
    known.
    """
    known = [(julian(r.start), julian(r.end)) for r in row.runs if r.start and r.end]
    if known:
        return np.linspace(min(s for s, _ in known), max(e for _, e in known), 5)
    noon = dt.datetime.combine(row.night, dt.time(12), dt.UTC)
    return np.array([julian(noon) - longitude / 360 + 0.5])


def _site(plan: PlanState, contributor: str) -> SiteThing:
    """The site of that name, else the chosen one."""
    for site in plan.sites:
        if site.name.casefold() == contributor.casefold():
            return site
    return plan.site_named()

"""What to shoot tonight or this month: targets of the library and of the catalogue with the hours
that can be had of each.
"""

from __future__ import annotations

import calendar
import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np

from ...core.plan.catalogue import SOURCE
from ...core.plan.framing import field_of
from ...core.plan.kinds import Kind
from ...core.plan.month import usable_hours
from ...core.plan.objects import every_object
from ..library.things import PlanState, TargetThing
from ..library.usual import catalogue_target
from .stations import place_of, rules_of

_FITS: Final = (0.25, 1.5)
"""A target's long axis over the field's longer side, where it fills a picture."""
_MOST: Final = 200


@dataclass(frozen=True)
class ListRequest:
    """Which targets to list: a ``kind`` (empty: all), of tonight or of the month, those that the
    rig's field fits only or all, ordered by hours for lines or for broadband.
    """

    kind: str = ""
    whole_month: bool = True
    fitting: bool = True
    by: Literal["lines", "broadband"] = "lines"


@dataclass(frozen=True)
class Shootable:
    """A target with its size in arcminutes, altitude at transit, usable hours under any sky
    (``lines``) and without the Moon (``broadband``), and the hours that the log holds of it;
    ``mine``: one of the person's own.
    """

    name: str
    ids: tuple[str, ...]
    kind: Kind
    ra: float
    dec: float
    size_arcmin: tuple[float, float] | None
    transit_deg: float = 0.0
    hours_lines: float = 0.0
    hours_broadband: float = 0.0
    held_h: float = 0.0
    mine: bool = False

    def as_target(self) -> TargetThing:
        """As one of the person's own, its brightness guessed by its kind."""
        names = tuple(i for i in self.ids if i != self.name)
        position = self.ra, self.dec
        return catalogue_target(self.name, names, position, self.size_arcmin, self.kind, SOURCE)


def shootable(
    plan: PlanState,
    own: Sequence[TargetThing],
    held_h: Mapping[str, float],
    date: dt.date,
    request: ListRequest,
) -> list[Shootable]:
    """The targets with the most hours at the plan's site from ``date`` on, one's ``own`` among
    them. Raises InputError where site or rig are missing.
    """
    site, rig = plan.site_named(), plan.rig_named()
    field = max(field_of(side, rig.focal) for side in rig.sensor_mm) * 60
    known = [_own(t) for t in own]
    names = {n.casefold() for t in own for n in (t.name, *t.aliases)}
    known += [
        Shootable(x.name, x.ids, x.kind, x.ra, x.dec, x.size_arcmin)
        for x in every_object()
        if not names & {n.casefold() for n in (x.name, *x.ids)}
    ]
    chosen = [x for x in known if _wanted(x, request, field)]
    if not chosen:
        return []
    dates = _dates(date, request.whole_month)
    ra, dec = (np.array([getattr(x, key) for x in chosen]) for key in ("ra", "dec"))
    hours = usable_hours(place_of(site), dates, rules_of(plan, site), ra, dec)
    by = hours.open if request.by == "lines" else hours.moonless
    size = np.array([max(x.size_arcmin or (0.0,)) for x in chosen])
    order = np.lexsort((-size, -np.round(by, 1)))
    out = []
    for n in order[:_MOST]:
        x = chosen[int(n)]
        if hours.open[n] <= 0:
            continue
        out.append(
            Shootable(
                x.name,
                x.ids,
                x.kind,
                x.ra,
                x.dec,
                x.size_arcmin,
                float(hours.transit[n]),
                float(hours.open[n]),
                float(hours.moonless[n]),
                held_h.get(x.name, 0.0),
                x.mine,
            )
        )
    return out


def _own(t: TargetThing) -> Shootable:
    return Shootable(t.name, t.aliases, t.kind, t.ra, t.dec, t.size_arcmin, mine=True)


def _wanted(x: Shootable, request: ListRequest, field: float) -> bool:
    if request.kind and x.kind != request.kind:
        return False
    if not request.fitting or x.mine:
        return True
    return x.size_arcmin is not None and _FITS[0] <= max(x.size_arcmin) / field <= _FITS[1]


def _dates(first: dt.date, whole_month: bool) -> list[dt.date]:
    """The night, or those of its month from it on and as many again as make a month."""
    if not whole_month:
        return [first]
    _, days = calendar.monthrange(first.year, first.month)
    return [first + dt.timedelta(days=n) for n in range(days)]

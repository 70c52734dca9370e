"""Hours of other rigs in hours of the plan's: an hour counts as much as it adds to SNR squared
under a dark sky.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from ...core.plan.station import Aim, Station
from ...core.plan.through import through_of
from ..library.things import PlanState, RigThing
from .held import Held, Shot
from .stations import home_of, station_of

_DIFFERS: Final = 0.05  # of an hour, from which it is worth a word


@dataclass(frozen=True)
class OfRig:
    """Hours of a channel with one rig, and what one of them counts; 1 where it is not known."""

    rig: str
    hours: float
    share: float
    known: bool = True


@dataclass(frozen=True)
class Counted:
    """What hours of a channel count in hours of a ``rig``: one of them on average, and by rig."""

    rig: str
    share: float = 1.0
    parts: tuple[OfRig, ...] = ()

    @property
    def differs(self) -> bool:
        """Whether any of them counts other than as an hour."""
        return any(abs(p.share - 1) > _DIFFERS for p in self.parts)


def counted_hours(
    plan: PlanState, stations: Sequence[Station], aim: Aim, held: Mapping[str, Held]
) -> dict[str, Counted]:
    """How the hours that are ``held`` of a target count, by channel, in hours of the first station
    that serves it.
    """
    rates = _Rates(plan, stations, aim)
    out = {}
    for channel, one in held.items():
        base = next((s for s in stations if rates.best(s.name, channel) > 0), None)
        if base is None or not one.shot:
            continue
        unit = rates.best(base.name, channel)
        sums: dict[str, OfRig] = {}
        for shot in one.shot:
            rig = rig_of(shot, plan.rigs)
            rate = rates.behind(rig.name, channel, shot.channels) if rig is not None else 0.0
            share = rate / unit if rate > 0 else 1.0
            name = rig.name if rig is not None else shot.telescope or shot.station or "no rig told"
            before = sums.get(name, OfRig(name, 0.0, share, rate > 0))
            hours = before.hours + shot.hours
            mean = (before.share * before.hours + share * shot.hours) / hours if hours else share
            sums[name] = replace(before, hours=hours, share=mean)
        total = sum(p.hours for p in sums.values())
        if total > 0:
            share = sum(p.hours * p.share for p in sums.values()) / total
            out[channel] = Counted(base.name, share, tuple(sums.values()))
    return out


def weighed(held: Mapping[str, Held], counted: Mapping[str, Counted]) -> dict[str, Held]:
    """What is held in hours of the rig that hours are told for."""
    out = dict(held)
    for channel, c in counted.items():
        one = held[channel]
        measured = None if one.measured_h is None else one.measured_h * c.share
        out[channel] = replace(one, hours=one.hours * c.share, measured_h=measured)
    return out


def rig_of(shot: Shot, rigs: Iterable[RigThing]) -> RigThing | None:
    """The rig that subs were shot with: by its own name, else the only one of the place they were
    shot at.
    """
    every = list(rigs)
    for name in (shot.telescope, shot.station):
        found = [r for r in every if name and r.name.casefold() == name.casefold()]
        if found:
            return found[0]
    there = [r for r in every if shot.station and r.site.casefold() == shot.station.casefold()]
    return there[0] if len(there) == 1 else None


class _Rates:
    """What an hour of every rig and filter adds to SNR squared, computed when it is asked for."""

    def __init__(self, plan: PlanState, stations: Sequence[Station], aim: Aim) -> None:
        self._plan, self._aim = plan, aim
        self._stations = {s.name: s for s in stations}
        self._known: dict[str, list[Mapping[str, float]]] = {}

    def best(self, rig: str, channel: str) -> float:
        """Of the filter that serves a channel best; 0 for none."""
        return max((f.get(channel, 0.0) for f in self._of(rig)), default=0.0)

    def behind(self, rig: str, channel: str, channels: str) -> float:
        """Of the best filter that passes just these channels (``Ha+O3``), else of any."""
        passed = set(channels.split("+"))
        fits = [f[channel] for f in self._of(rig) if set(f) == passed and channel in f]
        return max(fits) if fits else self.best(rig, channel)

    def _of(self, rig: str) -> list[Mapping[str, float]]:
        if rig not in self._known:
            station = self._stations.get(rig)
            if station is None:
                thing = self._plan.rig_named(rig)
                station = station_of(self._plan, thing, home_of(self._plan, thing), ())
            made = (through_of(station, f, self._aim) for f in station.filters)
            self._known[rig] = [t.alone for t in made if t is not None]
        return self._known[rig]

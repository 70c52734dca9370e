"""What is held of each channel, and how its SNR grows: where the log, the channels and the blend
meet the plan.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from ...core.advise import Need
from ...core.advise.enough import Growth
from ...core.model.channel import CHANNELS
from ..channels.prepared import Prepared
from ..project.state import SourceState


@dataclass(frozen=True)
class Shot:
    """Hours with a telescope at a station behind a filter of some channels (``Ha+O3``), by the
    names that the log or a stack gives them.
    """

    telescope: str
    station: str
    channels: str
    hours: float


@dataclass(frozen=True)
class Held:
    """What a channel holds: hours, ``dual_h`` of them behind filters of several bands as far as the
    log tells, and how many times its noise must fall (None: not measured, or not in the blend), as
    measured on a stack of ``measured_h``; ``shot`` tells with what.
    """

    hours: float = 0.0
    factor: float | None = None
    measured_h: float | None = None
    dual_h: float = 0.0
    shot: tuple[Shot, ...] = ()


def what_is_held(
    prepared: Mapping[str, Prepared],
    needs: Sequence[Need],
    logged: Mapping[str, float],
    dual: Mapping[str, float],
    later: Mapping[str, float],
    shot: Mapping[str, tuple[Shot, ...]],
) -> dict[str, Held]:
    """What each channel holds, and what the noise lacks: hours of the stack and those shot
    ``later``, or all that are ``logged``, whichever are more; ``dual`` of these behind filters of
    several bands, ``shot`` with what.
    """
    factors = {n.channel: n.factor for n in needs}
    out = {n: Held(h, dual_h=dual.get(n, 0.0)) for n, h in logged.items()}
    for name, channel in prepared.items():
        measured = channel.hours or 0.0
        known = out.get(name, Held())
        hours = max(measured + later.get(name, 0.0), known.hours)
        out[name] = Held(hours, factors.get(name, 1.0), measured or None, known.dual_h)
    return {n: replace(h, shot=shot.get(n, ())) for n, h in out.items()}


def shot_of_stacks(
    prepared: Mapping[str, Prepared],
    origins: Mapping[str, Prepared],
    sources: Sequence[SourceState],
) -> dict[str, tuple[Shot, ...]]:
    """With what the stacks of each channel were shot, of those that tell their hours."""
    known = {s.id: s for s in sources}
    return {
        name: tuple(
            Shot("", s.station, "+".join(s.lines), s.hours)
            for i in sorted(_stacks_of(channel, origins))
            if (s := known.get(i)) is not None and s.hours
        )
        for name, channel in prepared.items()
    }


def held_until(
    prepared: Mapping[str, Prepared],
    origins: Mapping[str, Prepared],
    sources: Sequence[SourceState],
) -> dict[str, str]:
    """The moment up to which the stacks of each channel may hold subs; channels of which one stack
    does not know it are left out.
    """
    known = {s.id: s.until for s in sources}
    out = {}
    for name, channel in prepared.items():
        moments = [known.get(i, "") for i in _stacks_of(channel, origins)]
        if moments and all(moments):
            out[name] = max(moments)
    return out


def _stacks_of(channel: Prepared, origins: Mapping[str, Prepared]) -> set[str]:
    """The stacks that a channel was made of, whatever was done to it since."""
    found = set(channel.origin.stacks)
    before = channel.notes.cleaned_from
    parts = [p.origin for p in channel.notes.pool.parts] if channel.notes.pool is not None else []
    for key in (*parts, *([before] if before else [])):
        if key in origins and origins[key] is not channel:
            found |= _stacks_of(origins[key], origins)
    return found


def growths(
    held: Mapping[str, Held],
    prepared: Mapping[str, Prepared],
    wanted: Mapping[str, float],
    hour_gain: Mapping[str, float],
    counted: Mapping[str, tuple[float, str]],
) -> list[Growth]:
    """How each channel's SNR grows with hours, where it stands, and what is wanted of it in hours;
    ``hour_gain`` is what an hour tonight counts, ``counted`` what an hour of those held does, and
    in whose.
    """
    out = []
    for name in [n for n in CHANNELS if n in held or n in wanted]:
        known, share = prepared.get(name), counted.get(name, (1.0, ""))[0]
        measured = known.hours * share if known and known.hours else None
        shot = held.get(name, Held()).hours
        out.append(
            Growth(
                name,
                shot * share,
                wanted.get(name) or None,
                known.measure.snr if known else None,
                measured,
                hour_gain.get(name, 1.0),
                held.get(name, Held()).dual_h,
                shot,
                counted.get(name, (1.0, ""))[1],
            )
        )
    return out

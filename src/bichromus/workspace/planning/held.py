"""What is held of each channel, and how its SNR grows: where the log, the channels and the blend
meet the plan.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ...core.advise import Need
from ...core.advise.enough import Growth
from ...core.model.channel import CHANNELS
from ..channels.prepared import Prepared


@dataclass(frozen=True)
class Held:
    """What a channel holds: hours, and how many times its noise must fall (None: not measured, or
    not in the blend), as measured on a stack of ``measured_h``.
    """

    hours: float = 0.0
    factor: float | None = None
    measured_h: float | None = None


def what_is_held(
    prepared: Mapping[str, Prepared], needs: Sequence[Need], logged: Mapping[str, float]
) -> dict[str, Held]:
    """What each channel holds: hours of the log or of the stack, whichever are more, and what the
    noise lacks.
    """
    factors = {n.channel: n.factor for n in needs}
    out = {n: Held(h) for n, h in logged.items()}
    for name, channel in prepared.items():
        measured = channel.hours or 0.0
        hours = max(measured, logged.get(name, 0.0))
        out[name] = Held(hours, factors.get(name, 1.0), measured or None)
    return out


def growths(
    held: Mapping[str, Held],
    prepared: Mapping[str, Prepared],
    wanted: Mapping[str, float],
    hour_gain: Mapping[str, float],
) -> list[Growth]:
    """How each channel's SNR grows with hours, where it stands, and what is wanted of it in hours;
    ``hour_gain`` is what an hour tonight counts.
    """
    out = []
    for name in [n for n in CHANNELS if n in held or n in wanted]:
        known = prepared.get(name)
        out.append(
            Growth(
                name,
                held.get(name, Held()).hours,
                wanted.get(name) or None,
                known.measure.snr if known else None,
                known.hours if known else None,
                hour_gain.get(name, 1.0),
            )
        )
    return out

"""What is worth knowing of the channels themselves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

from ..measure.field import StarField
from ..model.measures import Measure
from ..pool.stacks import USELESS
from .base import Advice, hours_text

_TILT: Final = 0.08  # of the star width
_TILT_SURE: Final = 5.0  # times its error
_EVEN: Final = 1.5  # the best SNR over the worst, up to which lines count as even


@dataclass(frozen=True)
class Standing:
    """What is known of a channel beside its figures: the stacks of its pool as (name, share of the
    weight, SNR lost without it), the star fields of its stacks, and a stack whose leak speaks
    against the table: which leak, and how many times the table's it is.
    """

    parts: tuple[tuple[str, float, float], ...] = ()
    fields: Mapping[str, StarField] = field(default_factory=dict)
    leaks: tuple[str, str, float] | None = None


def advise_channels(
    measures: Mapping[str, Measure],
    hours: Mapping[str, float | None],
    standings: Mapping[str, Standing] | None = None,
) -> Advice | None:
    """The first of: a channel without signal; leaks that disagree; a tilt; a stack that adds
    nothing; noise that cannot be told from nebula; the weakest line.
    """
    lines = {n: m for n, m in measures.items() if n in ("Ha", "O3", "S2", "Hb")}
    for name, measure in measures.items():
        if measure.snr is None:
            return Advice(
                "act",
                f"{name} holds no signal above its noise: check its filter and focus, "
                "or leave it out.",
                ((f"{name}, noise per pixel", f"{measure.noise.sigma_px:.3g}"),),
                "Signal counts from 4 sigma of the smoothed picture over 0.2 % of the frame.",
                name,
            )
    found = standings or {}
    special = _leaks(found) or _tilt(found) or _useless(found)
    if special is not None:
        return special
    for name, measure in measures.items():
        if measure.noise.sigma_eff is None:
            return Advice(
                "note",
                f"Nebula nearly fills {name}: its noise is only known from pixel to pixel.",
                (("quiet blocks found", str(measure.noise.quiet_blocks)),),
                "Large-scale noise needs at least 8 quiet blocks of 32 x 32 pixels.",
                name,
            )
    if len(lines) < 2:
        return None
    weakest = min(lines, key=lambda n: lines[n].snr or 0)
    strongest = max(lines, key=lambda n: lines[n].snr or 0)
    low, high = lines[weakest].snr or 0, lines[strongest].snr or 0
    rows = tuple(
        (
            f"{n}, SNR" + (f" after {hours_text(h)}" if (h := hours.get(n)) else ""),
            f"{m.snr or 0:.1f}",
        )
        for n, m in lines.items()
    )
    formula = (
        "SNR = mean signal over the nebula / noise over one star's beam. "
        "It grows as the square root of the hours."
    )
    if high < _EVEN * low:
        return Advice("good", f"The lines are even: SNR {low:.0f} to {high:.0f}.", rows, formula)
    had = hours.get(weakest)
    if had:
        return Advice(
            "note",
            f"{weakest} is the weakest line, SNR {low:.1f} against {high:.0f} of {strongest}: "
            f"{hours_text(had)} more would bring it to {low * 2**0.5:.1f}.",
            rows,
            formula,
            weakest,
        )
    return Advice(
        "note",
        f"{weakest} is the weakest line: SNR {low:.1f} against {high:.0f} of {strongest}.",
        rows,
        formula,
        weakest,
    )


def _leaks(standings: Mapping[str, Standing]) -> Advice | None:
    for name, standing in standings.items():
        if standing.leaks is not None:
            stack, leak, times = standing.leaks
            return Advice(
                "act",
                f"The leak {leak} of {stack} is at most {times:.2f} times what the response says: "
                "look at Extract before you trust its lines.",
                ((f"{stack}, {leak}", f"{times:.2f} of the table's"),),
                "Measured where one line shines alone: the lowest ratio of the planes on which "
                "enough places agree. The other line can raise it, not lower it: it is an upper "
                "bound, and below 0.75 of the table's the table is in doubt.",
                name,
            )
    return None


def _tilt(standings: Mapping[str, Standing]) -> Advice | None:
    fields = {stack: (f, name) for name, s in standings.items() for stack, f in s.fields.items()}
    tilted = {
        k: v
        for k, v in fields.items()
        if v[0].tilt > max(_TILT * v[0].middle, _TILT_SURE * v[0].error)
    }
    if not tilted:
        return None
    stack, (f, name) = max(tilted.items(), key=lambda t: t[1][0].tilt / t[1][0].middle)
    where = f.tilt_corner
    wider = 100 * (f.corners[where] / f.middle - 1)
    rows = (
        ("stars in the middle", f"{f.middle:.2f} px"),
        *((c, f"{w:.2f} px") for c, w in f.corners.items()),
        ("stars fitted", str(f.stars)),
    )
    return Advice(
        "note",
        f"Stars of {stack} are {wider:.0f} % wider {where}: tilt {f.tilt:.1f} px. "
        "Check the camera before the next night.",
        rows,
        "A smooth surface through the widths of stars all over the stack; "
        "tilt is its slope from side to side.",
        name,
    )


def _useless(standings: Mapping[str, Standing]) -> Advice | None:
    for name, standing in standings.items():
        for label, weight, loss in standing.parts:
            if weight < USELESS:
                rows = tuple(
                    (part, f"{100 * w:.1f} % of the weight") for part, w, _ in standing.parts
                )
                return Advice(
                    "note",
                    f"{label} adds next to nothing to {name}: without it the SNR falls by "
                    f"{100 * loss:.1f} %.",
                    rows,
                    "Weight = (flux / noise)² over the sum of all.",
                    name,
                )
    return None

"""What subs are worth, and what it costs and brings to leave some out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from .grading import Grade
from .subs import SubMeasure

_HELPS: Final = 0.15
_CLEAREST: Final = 1.2  # more light than that is a fault of the measure


@dataclass(frozen=True)
class Effect:
    """Leaving subs out: ``plain`` is the change of SNR when all subs count alike, ``weighted`` when
    each counts by its worth (shares, +0.018 is 1.8 % more).
    """

    subs: int
    seconds: float
    plain: float
    weighted: float


def light_of(grade: Grade) -> float:
    """Light that came through, as it is believed: 0 to 1.2 of the good subs'; 0 where it is not
    known.
    """
    return min(max(grade.transparency or 0.0, 0.0), _CLEAREST)


def worths(measures: Sequence[SubMeasure | None], grades: Sequence[Grade]) -> np.ndarray:
    """Worth of each sub (N,): (light / (noise x star size))^2 over that of the median good one; 0
    for a broken one.

    A sub's share of the SNR squared of a stack in which each counts by its worth.
    """
    raw = np.zeros(len(measures))
    for n, (m, g) in enumerate(zip(measures, grades, strict=True)):
        if m is not None and m.noise > 0 and g.transparency is not None:
            raw[n] = (light_of(g) / (m.noise * (m.fwhm_px or np.nan))) ** 2
    raw = np.nan_to_num(raw)
    good = raw[[g.keep for g in grades]] if any(g.keep for g in grades) else raw
    good = good[good > 0]
    return raw / float(np.median(good)) if good.size else raw


def leaving_out(
    measures: Sequence[SubMeasure | None],
    grades: Sequence[Grade],
    out: Sequence[bool],
    kept: Sequence[bool],
    seconds: Sequence[float],
) -> Effect:
    """What it does to the SNR to leave ``out`` subs out of those ``kept`` now."""
    worth = worths(measures, grades)
    before = np.asarray(kept, bool)
    gone = before & np.asarray(out, bool)
    after = before & ~gone
    weighted = _ratio(float(worth[after].sum()) ** 0.5, float(worth[before].sum()) ** 0.5)
    return Effect(
        int(gone.sum()),
        float(np.asarray(seconds)[gone].sum()),
        _ratio(_plain(measures, grades, after), _plain(measures, grades, before)),
        weighted,
    )


def still_helps(causes: Sequence[str], worth: float) -> bool:
    """Whether a poor sub is better kept with its low weight: haze, light and trails are healed by
    weights and by rejection in the stack, soft and long stars are not.
    """
    return bool(causes) and set(causes) <= {"cloud", "sky", "trail"} and worth >= _HELPS


def _plain(
    measures: Sequence[SubMeasure | None], grades: Sequence[Grade], used: np.ndarray
) -> float:
    """SNR, in arbitrary units, of a plain mean: light adds up, noise adds in squares, stars are as
    wide as the mean.
    """
    light = noise2 = 0.0
    widths = []
    for m, g, use in zip(measures, grades, used, strict=True):
        if use and m is not None:
            light += max(g.transparency or 0.0, 0.0)
            noise2 += m.noise**2
            if m.fwhm_px is not None:
                widths.append(m.fwhm_px)
    wide = float(np.sqrt(np.mean(np.square(widths)))) if widths else 1.0
    return light / (noise2**0.5 * wide) if noise2 > 0 else 0.0


def _ratio(after: float, before: float) -> float:
    return after / before - 1 if before > 0 else 0.0

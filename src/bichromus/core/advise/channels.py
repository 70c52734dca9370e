"""What is worth knowing of the channels themselves."""

from __future__ import annotations

from collections.abc import Mapping

from ..model.measures import Measure
from .base import Advice, hours_text


def advise_channels(measures: Mapping[str, Measure], hours: Mapping[str, float | None]) -> Advice | None:
    """The first of: a channel without signal; noise that cannot be told from nebula; the weakest channel."""
    lines = {n: m for n, m in measures.items() if n in ("Ha", "O3", "S2", "Hb")}
    for name, measure in measures.items():
        if measure.snr is None:
            return Advice("act", f"{name} holds no signal above its noise: check its filter and focus, "
                          "or leave it out.",
                          ((f"{name}, noise per pixel", f"{measure.noise.sigma_px:.3g}"),),
                          "Signal counts from 4 sigma of the smoothed picture over 0.2 % of the frame.", name)
    for name, measure in measures.items():
        if measure.noise.sigma_eff is None:
            return Advice("note", f"Nebula nearly fills {name}: its noise is only known from pixel to pixel.",
                          (("quiet blocks found", str(measure.noise.quiet_blocks)),),
                          "Large-scale noise needs at least 8 quiet blocks of 32 x 32 pixels.", name)
    if len(lines) < 2:
        return None
    weakest = min(lines, key=lambda n: lines[n].snr or 0)
    strongest = max(lines, key=lambda n: lines[n].snr or 0)
    low, high = lines[weakest].snr or 0, lines[strongest].snr or 0
    rows = tuple((f"{n}, SNR" + (f" after {hours_text(h)}" if (h := hours.get(n)) else ""), f"{m.snr or 0:.1f}")
                 for n, m in lines.items())
    formula = ("SNR = mean signal over the nebula / noise over one star's beam. "
               "It grows as the square root of the hours.")
    if high < 1.5 * low:
        return Advice("good", f"The lines are even: SNR {low:.0f} to {high:.0f}.", rows, formula)
    had = hours.get(weakest)
    if had:
        return Advice("note", f"{weakest} is the weakest line, SNR {low:.1f} against {high:.0f} of {strongest}: "
                      f"{hours_text(had)} more would bring it to {low * 2 ** 0.5:.1f}.", rows, formula, weakest)
    return Advice("note", f"{weakest} is the weakest line: SNR {low:.1f} against {high:.0f} of {strongest}.", rows,
                  formula, weakest)

"""How likely chance is to do as well."""

from __future__ import annotations

import numpy as np
import scipy


def tail_log10(hits: int, tries: int, chance: float) -> float:
    """Minus the decimal logarithm of the probability of more than ``hits`` successes in ``tries``,
    each of probability ``chance`` (the binomial distribution's upper tail); infinite where it is
    smaller than numbers go.
    """
    if hits < 0:
        return 0.0
    with np.errstate(divide="ignore"):
        return float(-np.log10(scipy.special.bdtrc(hits, tries, chance)))

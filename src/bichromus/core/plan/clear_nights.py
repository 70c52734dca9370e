"""How many nights it takes until enough of them are clear."""

from __future__ import annotations

from typing import Final

from ..model.errors import InputError

USUAL_CHANCE: Final = 0.4
"""Share of nights that are clear, where a person says nothing else."""
_LIKELY: Final = (0.1, 0.9)
_MOST: Final = 3650  # ten years: no plan waits longer


def likely_nights(clear: int, chance: float) -> tuple[int, int]:
    """Nights until ``clear`` of them were clear, of which each is with ``chance``, on its own: the
    first so many with probability 0.1, and with 0.9 (negative binomial).
    """
    if not 0 < chance <= 1 or clear < 0:
        raise InputError(
            "The nights cannot be counted",
            why=f"{clear} clear ones at a chance of {chance:g}",
            do="Give a chance above 0 up to 1",
        )
    found: list[int] = []
    # of being done after just n nights, and of having had k clear ones among those before
    had = [1.0, *[0.0] * clear]
    done, night = (1.0 if clear == 0 else 0.0), 0
    for share in _LIKELY:
        while done < share and night < _MOST:
            night += 1
            done += had[clear - 1] * chance
            for k in range(clear - 1, 0, -1):
                had[k] = had[k] * (1 - chance) + had[k - 1] * chance
            had[0] *= 1 - chance
        found.append(night)
    return found[0], found[1]

"""Words that sentences are made of."""

from __future__ import annotations

from collections.abc import Sequence


def listed(names: Sequence[str]) -> str:
    """Ha, O3 and S2."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def short(name: str) -> str:
    """Ridge, of "Ridge, 80 mm refractor, mono": how people call a rig or a stack."""
    return name.partition(",")[0]

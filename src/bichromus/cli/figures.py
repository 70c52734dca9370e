"""Figures in JSON files of plans."""

from __future__ import annotations

import math
from typing import Any


def figure(
    row: Any,
    key: str,
    where: str = "",
    default: float | None = None,
    above: bool = False,
    most: float = math.inf,
) -> float:
    """A number of a table, 0 or more, ``above`` zero where it must be, and ``most`` at the most.
    Raises ValueError that names it, and ``where`` it stands.
    """
    name = f"{key} of {where}" if where else key
    value = row.get(key, default)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise ValueError(f"{name} is missing or no number")
    if value < 0 or (above and value == 0) or value > most:
        raise ValueError(f"{name} cannot be {value:g}")
    return float(value)

"""What an advice is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Tone = Literal["act", "note", "good"]


@dataclass(frozen=True)
class Advice:
    """One sentence, the figures behind it, and the formula in words.

    ``tone``: act (something is missing), note (worth knowing), good (nothing to do).
    """

    tone: Tone
    sentence: str
    why: tuple[tuple[str, str], ...] = ()
    formula: str = ""
    channel: str | None = None


def hours_text(hours: float) -> str:
    """Hours as a person says them: 40 min, 2.4 h, 31 h."""
    if hours < 0.95:
        return f"{max(5, round(hours * 60 / 5) * 5)} min"
    return f"{hours:.1f} h" if hours < 10 else f"{hours:,.0f} h"

"""Whether it pays to throw subs out."""

from __future__ import annotations

from collections.abc import Mapping

from ..measure.worth import Effect
from .base import Advice, hours_text

_WORDS = {
    "cloud": "cloud",
    "focus": "soft focus",
    "drift": "drift",
    "sky": "dawn or light",
    "trail": "a trail",
    "broken": "broken files",
}


def cause_words(causes: Mapping[str, int]) -> str:
    """As in 2 cloud, 1 soft focus."""
    return ", ".join(f"{n} {_WORDS.get(c, c)}" for c, n in causes.items() if n)


def effect_words(channel: str, effect: Effect) -> str:
    """What leaving subs out costs and brings, in one sentence."""
    minutes = hours_text(effect.seconds / 3600)
    if effect.subs == 0:
        return f"Nothing of {channel} is suggested to be left out."
    same = abs(effect.plain) < 0.0005
    plain = (
        "leaves its SNR as it is"
        if same
        else (
            f"{'raises' if effect.plain >= 0 else 'lowers'} its SNR by "
            f"{abs(100 * effect.plain):.1f} %"
        )
    )
    subs = "this one" if effect.subs == 1 else f"these {effect.subs}"
    return (
        f"Leaving {subs} out costs {minutes} and {plain} in a plain mean "
        f"({100 * effect.weighted:+.1f} % where each counts by its worth)."
    ).replace("-", "−")


def advise_rejects(
    channel: str, night: str, waiting: int, effect: Effect, helps: int, causes: Mapping[str, int]
) -> Advice | None:
    """``waiting`` subs have a suggestion and no decision; ``helps`` of them are better kept with a
    low weight.
    """
    if not waiting:
        return None
    rows = (
        ("suggested out", str(effect.subs)),
        ("for", cause_words(causes) or "–"),
        ("time lost with them", hours_text(effect.seconds / 3600) if effect.subs else "none"),
        ("SNR, plain mean", f"{100 * effect.plain:+.1f} %".replace("-", "−")),
        ("SNR, weighted by worth", f"{100 * effect.weighted:+.1f} %".replace("-", "−")),
        ("better kept, with low weight", str(helps)),
    )
    formula = (
        "Worth = (light / (noise x star size))². A plain mean gains when poor subs go; a "
        "weighted one loses their share of the worth. Haze, light and trails are healed by weights "
        "and rejection in the stack, soft and long stars are not."
    )
    subs = "sub waits" if waiting == 1 else "subs wait"
    if not effect.subs:
        return Advice(
            "note",
            f"{waiting} poor {subs} in {channel} of {night}: kept with low weight "
            f"{'it still helps' if waiting == 1 else 'they still help'}.",
            rows,
            formula,
            channel,
        )
    tail = f"; {helps} more still help{'s' if helps == 1 else ''} with low weight" if helps else ""
    what = (
        cause_words(causes)
        if effect.subs > 1
        else next((_WORDS.get(c, c) for c, n in causes.items() if n), "")
    )
    gone = "it" if effect.subs == 1 else f"these {effect.subs}"
    return Advice(
        "act",
        f"{waiting} {subs} for a decision in {channel} of {night}. {what[:1].upper()}{what[1:]}: "
        f"leaving {gone} out costs {hours_text(effect.seconds / 3600)} and changes the SNR by "
        f"{100 * effect.plain:+.1f} %{tail}.".replace("by -", "by −"),
        rows,
        formula,
        channel,
    )

"""Which channel holds the blend back, and how many hours would free it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ..blend.level import levels_at
from ..blend.noise import PredictedNoise, at_balance, predict_noise
from ..model.channel import COLOURS
from ..model.recipe import Recipe
from ..model.words import listed
from .base import Advice, hours_text

MOST_CLEANED = 0.7
"""Amount of cleaning up to which a channel keeps most of its own detail; beyond it there is too
little light.
"""
_NO_BALANCE = 0.005  # balance below which all are equally loud
_LACKING = 1.01  # factor of SNR below which a channel lacks nothing


@dataclass(frozen=True)
class Need:
    """A channel's noise must fall by ``factor``; ``hours_more`` does it under the same sky (None:
    hours unknown).
    """

    channel: str
    factor: float
    hours_had: float | None

    @property
    def hours_more(self) -> float | None:
        """Hours that are lacking; None where those it has are not known."""
        return None if self.hours_had is None else self.hours_had * (self.factor**2 - 1)


def hours_for_full_colour(recipe: Recipe) -> list[Need]:
    """What each channel lacks for balance 0 under the limits; empty when nothing does. Most needy
    first.

    The largest common noise is sought at which all channels, equally loud, stay within the limits.
    The broadband group is one: its hours go where they calm its colour fastest.
    """
    # cleaning carries a channel meanwhile: hours are what makes it needless
    full = at_balance(recipe.model_copy(update={"cleaned": {}}), 0.0)
    limits = recipe.settings.limits
    if predict_noise(full).within(limits):
        return []
    used = [n for n in recipe.settings.mixed() if recipe.channels[n].signal > 0]
    levels = levels_at(full)
    noise = {n: levels.noise[n] for n in used}
    group = [n for n in used if n in COLOURS]
    low, high = 1e-4 * max(noise.values()), max(noise.values())

    def factors(kappa: float) -> dict[str, float]:
        alone = {n: max(1.0, s / kappa) for n, s in noise.items() if n not in group}
        if not group:
            return alone
        common = max(1.0, max(noise[n] for n in group) / kappa)
        hours = {n: recipe.channels[n].hours for n in group}
        return alone | spread_hours({n: noise[n] for n in group}, hours, common)

    if not predict_noise(full, factors(low)).within(limits):
        return []
    for _ in range(14):
        middle = (low * high) ** 0.5
        low, high = (
            (middle, high) if predict_noise(full, factors(middle)).within(limits) else (low, middle)
        )
    needs = [Need(n, f, recipe.channels[n].hours) for n, f in factors(low).items() if f > _LACKING]
    return sorted(needs, key=lambda need: -(need.hours_more or need.factor))


def spread_hours(
    noise: Mapping[str, float], hours: Mapping[str, float | None], factor: float
) -> dict[str, float]:
    """By what factor each channel's noise falls where their common noise is to fall by ``factor``
    in the fewest hours: with t hours of a channel that brings variance v after t0, the sum of
    v t0 / t is least, at one sum of hours, where t goes as the root of v t0.
    """
    if factor <= 1:
        return dict.fromkeys(noise, 1.0)
    if not all(hours.values()):
        return dict.fromkeys(noise, factor)
    had = {n: float(hours[n] or 0) for n in noise}
    wanted = sum(s * s for s in noise.values()) / factor**2
    free, fixed = set(noise), 0.0
    while True:
        roots = {n: noise[n] * had[n] ** 0.5 for n in free}
        scale = sum(roots.values()) / max(wanted - fixed, 1e-30)
        enough = {n for n in free if roots[n] * scale < had[n]}
        if not enough or wanted <= fixed:
            break
        fixed += sum(noise[n] ** 2 for n in enough)  # these have hours enough already
        free -= enough
    return {n: max(roots[n] * scale / had[n], 1.0) ** 0.5 if n in free else 1.0 for n in noise}


def advise_blend(recipe: Recipe, needs: list[Need] | None = None) -> Advice | None:
    """The most valuable next action for this blend; ``needs`` where they are known already."""
    used = recipe.settings.mixed()
    silent = [n for n in used if recipe.channels[n].signal <= 0]
    if silent:
        return Advice(
            "act",
            f"{listed(silent)} shows no signal above its noise and is left out of the blend.",
            tuple((f"{n}, noise", f"{recipe.channels[n].sigma_px:.3g}") for n in silent),
            "A channel counts when its smoothed signal reaches 4 sigma over at least 0.2 % "
            "of the frame.",
            silent[0],
        )
    needs = hours_for_full_colour(recipe) if needs is None else needs
    now = predict_noise(recipe)
    if not needs:
        name, noise, limit = now.tightest(recipe.settings.limits)
        if not now.within(recipe.settings.limits):
            return None
        return Advice(
            "good",
            f"All channels are equally loud within the noise you allow: {name} at "
            f"{100 * noise / limit:.0f} % of its limit.",
            _noise_rows(now, recipe),
            "Predicted by sending noise samples through this very curve, mix and colour.",
        )
    return Advice(
        "act",
        _needy_sentence(needs, recipe),
        _need_rows(needs, recipe) + _noise_rows(now, recipe),
        "Noise falls as the square root of the hours: hours more = hours had × (factor² − "
        "1), under the same sky. The factor brings the predicted noise of equally loud "
        "channels under your limits.",
        needs[0].channel,
    )


def _needy_sentence(needs: list[Need], recipe: Recipe) -> str:
    worst = needs[0]
    balance = recipe.settings.balance
    group = [n for n in needs if n.channel in COLOURS]
    ending = f"equally loud at the noise you allow (balance {balance:.2f} now)"
    if worst.channel in COLOURS and (len(group) > 1 or len(needs) == len(group)):
        return _group_sentence(group, len(needs) > len(group))
    cleaned = recipe.cleaned.get(worst.channel)
    if cleaned is not None and balance < _NO_BALANCE and worst.hours_more is not None:
        amount = max(cleaned.fine, cleaned.coarse)
        if amount <= MOST_CLEANED:
            return (
                f"{worst.channel} is cleaned by {100 * amount:.0f} % to stay within the noise you "
                f"allow: {hours_text(worst.hours_more)} more under the same sky would make that "
                "needless."
            )
        return (
            f"{worst.channel} has too little light: {100 * amount:.0f} % of what may be noise is "
            f"taken off. {hours_text(worst.hours_more)} more under the same sky would show its "
            "own detail."
        )
    if worst.hours_more is None:
        return (
            f"{worst.channel} holds the blend back: its noise must fall {worst.factor:.1f} "
            f"times to be {ending}."
        )
    close = [n for n in needs[1:3] if n.hours_more and n.hours_more > 0.5 * worst.hours_more]
    if close:
        names = listed([worst.channel, *(n.channel for n in close)])
        parts = listed(
            [f"{hours_text(n.hours_more or 0)} more of {n.channel}" for n in (worst, *close)]
        )
        return f"{names} hold the blend back: {parts} would make them {ending}."
    return (
        f"{worst.channel} holds the blend back: {hours_text(worst.hours_more)} more under the "
        f"same sky would make it {ending}."
    )


def _group_sentence(group: list[Need], others: bool) -> str:
    """The broadband channels in one: their hours calm one noise."""
    names = [n.channel for n in sorted(group, key=lambda n: COLOURS.index(n.channel))]
    if any(n.hours_more is None for n in group):
        return (
            f"The broadband picture is noisier than you allow: the noise of {listed(names)} must "
            f"fall {max(n.factor for n in group):.1f} times."
        )
    parts = listed([f"{hours_text(n.hours_more or 0)} of {n.channel}" for n in group])
    ending = "equally loud within the noise you allow" if others else "within the noise you allow"
    whole = sum(n.hours_more or 0 for n in group)
    if len(group) == 1:
        return f"The broadband picture holds the blend back: {parts} more would bring it {ending}."
    return (
        f"The broadband picture holds the blend back: {hours_text(whole)} more ({parts}) would "
        f"bring it {ending}."
    )


def _need_rows(needs: list[Need], recipe: Recipe) -> tuple[tuple[str, str], ...]:
    rows = []
    for need in needs:
        snr = recipe.channels[need.channel].snr
        if snr:
            rows.append(
                (f"{need.channel}, SNR now and needed", f"{snr:.1f} → {snr * need.factor:.1f}")
            )
        if need.hours_had is not None and need.hours_more is not None:
            rows.append(
                (
                    f"{need.channel}, hours now and more",
                    f"{hours_text(need.hours_had)} + {hours_text(need.hours_more)}",
                )
            )
        cleaned = recipe.cleaned.get(need.channel)
        if cleaned is not None:
            off = f"{100 * cleaned.fine:.0f} %, {100 * cleaned.coarse:.0f} %"
            rows.append((f"{need.channel}, fine and coarse noise taken off", off))
    return tuple(rows)


def _noise_rows(noise: PredictedNoise, recipe: Recipe) -> tuple[tuple[str, str], ...]:
    limits = recipe.settings.limits
    return (
        ("lightness noise, limit", f"{noise.lightness:.3f}, {limits.lightness:.3f}"),
        ("colour noise, limit", f"{noise.chroma:.3f}, {limits.chroma:.3f}"),
        ("blotches, limit", f"{noise.blotch:.4f}, {limits.blotch:.4f}"),
    )

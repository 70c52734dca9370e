"""Which channel holds the blend back, and how many hours would free it."""

from __future__ import annotations

from dataclasses import dataclass

from ..blend.level import level_channels
from ..blend.noise import PredictedNoise, at_balance, predict_noise
from ..model.recipe import Recipe
from .base import Advice, hours_text, listed

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
    """
    full = at_balance(recipe, 0.0)
    limits = recipe.settings.limits
    if predict_noise(full).within(limits):
        return []
    used = [n for n in recipe.settings.used() if recipe.channels[n].signal > 0]
    noise = level_channels(recipe.channels, used, 0.0).noise
    low, high = 1e-4 * max(noise[n] for n in used), max(noise[n] for n in used)

    def factors(kappa: float) -> dict[str, float]:
        return {n: max(1.0, noise[n] / kappa) for n in used}

    if not predict_noise(full, factors(low)).within(limits):
        return []
    for _ in range(14):
        middle = (low * high) ** 0.5
        low, high = (
            (middle, high) if predict_noise(full, factors(middle)).within(limits) else (low, middle)
        )
    needs = [Need(n, f, recipe.channels[n].hours) for n, f in factors(low).items() if f > _LACKING]
    return sorted(needs, key=lambda need: -(need.hours_more or need.factor))


def advise_blend(recipe: Recipe, needs: list[Need] | None = None) -> Advice | None:
    """The most valuable next action for this blend; ``needs`` where they are known already."""
    used = recipe.settings.used()
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
    ending = f"equally loud at the noise you allow (balance {balance:.2f} now)"
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
    return tuple(rows)


def _noise_rows(noise: PredictedNoise, recipe: Recipe) -> tuple[tuple[str, str], ...]:
    limits = recipe.settings.limits
    return (
        ("lightness noise, limit", f"{noise.lightness:.3f}, {limits.lightness:.3f}"),
        ("colour noise, limit", f"{noise.chroma:.3f}, {limits.chroma:.3f}"),
        ("blotches, limit", f"{noise.blotch:.4f}, {limits.blotch:.4f}"),
    )

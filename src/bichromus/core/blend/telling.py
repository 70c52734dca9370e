"""A recipe told in words, so that another can repeat it: what was done, in its order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

from ..model.channel import channel_order
from ..model.recipe import Recipe
from .difference import LUMINANCE_WORDS, STAR_WORDS, finish_words
from .inputs import green_by_loudness, kept_stars
from .level import levels_at
from .mappings import mapping_words
from .mask_words import mask_words
from .noise import predict_noise

_STRETCHES: Final = {
    "asinh": "asinh of strength {strength:.1f}",
    "rational": "rational, black {black:.1f} σ below the sky",
    "bias": "bias",
    "power": "power",
}


def told(recipe: Recipe) -> list[tuple[str, str]]:
    """Steps of the blend and what was done in each, without those that did nothing."""
    return [(step, words) for step, words in _steps(recipe) if words]


def _steps(recipe: Recipe) -> Iterator[tuple[str, str]]:
    s = recipe.settings
    yield "Mapping", mapping_words(s.mapping)
    yield "Mix", "; ".join(_mix(recipe))
    yield "On top", ", ".join(f"{n} {s.lift.of(n):.2f}, by {s.lift.by}" for n in s.lifted)
    if green_by_loudness(recipe) or s.mapping == "bicolour-shared":
        by = "by loudness" if s.green_auto else "typed"
        yield "Green", f"share {s.green_share:.3f}, {by}"
    yield "White", _white(recipe)
    how = "just enough for the limits of noise" if s.balance_auto else "typed"
    yield "Balance", f"{s.balance:.3f}, {how}"
    gains = levels_at(recipe).gains
    yield "Gains", ", ".join(f"{n} × {gains[n]:.4g}" for n in _used(recipe) if n in gains)
    yield (
        "Noise taken off",
        ", ".join(
            f"{n} {1 - c.left_px:.0%} per pixel"
            for n, c in sorted(recipe.cleaned.items(), key=lambda i: channel_order(i[0]))
            if c.fine or c.coarse
        ),
    )
    stretch = _STRETCHES[s.stretch.kind].format(**s.stretch.model_dump())
    yield (
        "Stretch",
        f"{stretch}; the sky at {s.stretch.background:.2f}, the nebula at {s.stretch.signal:.2f}",
    )
    yield "Lightness", LUMINANCE_WORDS[s.luminance.source]
    yield "Stars", _stars(recipe)
    yield (
        "Colour",
        (
            f"saturation {s.colour.saturation:.2f}, limit of green {s.colour.limit_green:.2f}, "
            f"of magenta {s.colour.limit_magenta:.2f}"
        ),
    )
    yield "Tone", _tone(recipe)
    yield "Masks", "; ".join(mask_words(m) for m in s.active_masks())
    yield "Presentation", finish_words(s)
    noise = predict_noise(recipe)
    yield (
        "Noise of the sky",
        f"lightness {noise.lightness:.4f}, colour {noise.chroma:.4f} (Oklab, predicted)",
    )


def _used(recipe: Recipe) -> list[str]:
    return sorted(recipe.used(), key=channel_order)


def _mix(recipe: Recipe) -> Iterator[str]:
    for output, row in recipe.settings.mix.items():
        parts = [f"{w:.3f} {n}" for n, w in row.items() if w]
        if parts:
            yield f"{output} = {' + '.join(parts)}".replace("+ -", "− ")


def _white(recipe: Recipe) -> str:
    white = recipe.figures.white
    if white.gains == (1.0, 1.0, 1.0):
        return ""
    by = f"by {white.stars} stars" if white.stars else f"by {recipe.settings.white.by}"
    return f"R × {white.gains[0]:.4f}, G × {white.gains[1]:.4f}, B × {white.gains[2]:.4f}, {by}"


def _stars(recipe: Recipe) -> str:
    s, found = recipe.settings.stars, recipe.star_set()
    if kept_stars(recipe) or found is None:
        return STAR_WORDS["kept" if kept_stars(recipe) else "none"]
    return (
        f"split off, and put back from {', '.join(found.made_of)}: brightness {s.brightness:.2f}, "
        f"size {s.size:.2f}, saturation {s.saturation:.2f}, by "
        f"{'adding light' if s.join == 'add' else 'screen'}"
    )


def _tone(recipe: Recipe) -> str:
    tone = recipe.settings.tone
    parts = []
    if tone.points:
        points = ", ".join(f"{a:.2f} → {b:.2f}" for a, b in tone.points)
        parts.append(f"a curve through {points}")
    if tone.cores > 0:
        parts.append(f"bright cores opened by {tone.cores:.2f} at {tone.cores_px:.0f} px")
    return "; ".join(parts)

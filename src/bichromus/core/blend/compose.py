"""From measures and taste to a complete recipe."""

from __future__ import annotations

from ..model.errors import UnsupportedData
from ..model.measures import Measure
from ..model.planes import Header
from ..model.recipe import BlendFigures, ChannelFigures, Recipe
from ..model.settings import BlendSettings
from .cleaning import cleaned_channels
from .inputs import green_by_loudness
from .mappings import lifted_lines, mapping_mix
from .noise import auto_balance


def figures_of(
    measure: Measure, header: Header, file: str = "", digest: str = ""
) -> ChannelFigures:
    """What the blend keeps of a measured channel."""
    surface, noise = measure.surface, measure.noise
    hours = header.total_s / 3600 if header.total_s else None
    return ChannelFigures(
        hash=digest,
        file=file,
        shape=measure.shape,
        background=(surface.a, surface.bx, surface.by),
        signal=max(measure.signal_own, 0.0),
        sigma_px=max(noise.sigma_px, 1e-30),
        sigma_eff=noise.sigma_eff,
        white=measure.white_px,
        snr=measure.snr,
        hours=hours,
    )


def compose(
    settings: BlendSettings,
    figures: BlendFigures,
    made_by: str = "",
    moving: Recipe | None = None,
) -> Recipe:
    """Fill the mix from the mapping, the green from the channels' loudness and the balance from the
    limits where they are automatic; how far noise is taken off as in ``moving``, the recipe that a
    control is moving.

    Raises UnknownName when the mapping does not fit, UnsupportedData when no used channel holds any
    signal.
    """
    names = list(figures.channels)
    wanted = {
        "mix": mapping_mix(settings, names),
        "lifted": lifted_lines(settings.mapping, names),
    }
    settings = settings.model_copy(update=wanted)
    mixed = settings.mixed()
    if mixed and not any(figures.channels[n].signal > 0 for n in mixed):
        raise UnsupportedData(
            "There is nothing to show",
            why=f"no signal stands out in {', '.join(mixed)}",
            do="Check the stacks, or add more hours",
        )
    recipe = Recipe(settings=settings, figures=figures, made_by=made_by)
    if figures.green is not None and green_by_loudness(recipe):
        settings = settings.model_copy(update={"green_share": round(figures.green, 3)})
        settings = settings.model_copy(update={"mix": mapping_mix(settings, names)})
        recipe = recipe.model_copy(update={"settings": settings})
    recipe = recipe.model_copy(update={"cleaned": cleaned_channels(recipe, moving)})
    if settings.balance_auto:
        settings = settings.model_copy(update={"balance": auto_balance(recipe)})
        recipe = recipe.model_copy(update={"settings": settings})
    return recipe

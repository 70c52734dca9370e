"""From measures and taste to a complete recipe."""

from __future__ import annotations

from collections.abc import Mapping

from ..model.errors import UnsupportedData
from ..model.measures import Measure
from ..model.planes import Header
from ..model.recipe import BlendSettings, ChannelFigures, Recipe
from .mappings import mapping_mix
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
    settings: BlendSettings, figures: Mapping[str, ChannelFigures], made_by: str = ""
) -> Recipe:
    """Fill the mix from the mapping and the balance from the limits where it is automatic.

    Raises UnknownName when the mapping does not fit, UnsupportedData when no used channel holds any
    signal.
    """
    settings = settings.model_copy(update={"mix": mapping_mix(settings, list(figures))})
    used = settings.used()
    if used and not any(figures[n].signal > 0 for n in used):
        raise UnsupportedData(
            "There is nothing to show",
            why=f"no signal stands out in {', '.join(used)}",
            do="Check the stacks, or add more hours",
        )
    recipe = Recipe(settings=settings, channels=dict(figures), made_by=made_by)
    if settings.balance_auto:
        settings = settings.model_copy(update={"balance": auto_balance(recipe)})
        recipe = recipe.model_copy(update={"settings": settings})
    return recipe

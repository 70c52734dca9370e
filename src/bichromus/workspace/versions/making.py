"""A version made of a picture."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable

from ...core.blend import predict_noise
from ...core.model.channel import channel_order
from ...core.model.errors import InputError
from ...core.model.recipe import Recipe
from ...core.numerics.sampling import whole_view
from ..blend.controller import BlendSnapshot, make_recipe
from ..blend.evidence import Evidence
from ..channels.build import Channels
from ..channels.steps import stacks_behind
from ..project.state import PreparationState, VersionChannel, VersionState
from . import commands
from .compare import full_share
from .files import LONGEST_PX, VersionFiles


def made_version(
    now: BlendSnapshot,
    wanted: PreparationState,
    files: VersionFiles,
    made: dt.datetime,
    recipe: Recipe | None = None,
    name: str = "",
    note: str = "",
) -> VersionState:
    """A version of what is there, or of another recipe's settings on these channels, which were
    prepared as ``wanted``; its files are written. Raises InputError where there is no picture,
    WriteFailed.
    """
    if recipe is not None:
        figures = Evidence().figures(recipe.settings, now.channels, now.layers)
        recipe = make_recipe(recipe.settings, figures)
    else:
        recipe = now.recipe
    if now.renderer is None or recipe is None:
        raise InputError("There is no picture to keep yet", do="Open stacks and blend them first")
    if now.channels.rough:
        raise InputError(
            "There is only a quick look yet", do="Wait until the channels are prepared"
        )
    height, width = now.renderer.shape_of(recipe)
    longest = min(LONGEST_PX, max(height, width))
    picture = now.renderer.blend(recipe, whole_view((height, width), longest))
    used = {n: now.channels.channel(n) for n in recipe.used() if n in now.channels.names}
    return VersionState(
        name=name or commands.default_name(recipe),
        made=made.replace(microsecond=0).isoformat(),
        recipe=files.put(recipe, picture),
        mapping=recipe.settings.mapping,
        size=(width, height),
        note=note,
        noise=predict_noise(recipe).lightness,
        full=full_share(picture),
        shot_h=shot_hours(now.channels, wanted, used),
        channels={
            n: VersionChannel(
                key=used[n].key,
                hours=used[n].hours,
                snr=used[n].measure.snr,
                fwhm_px=used[n].measure.stars.fwhm_px,
            )
            for n in sorted(used, key=channel_order)
        },
    )


def shot_hours(channels: Channels, wanted: PreparationState, used: Iterable[str]) -> float | None:
    """Hours of the stacks behind channels, each once; None where no stack tells its own."""
    behind = {
        s.id: s.hours for n in used for s in stacks_behind(channels, wanted, channels.channel(n))
    }
    told = [h for h in behind.values() if h]
    return sum(told) if told else None


def unfit(wanted: Recipe, got: Recipe) -> list[str]:
    """What of a recipe from elsewhere does not fit the channels that are here, in words."""
    said = []
    if wanted.settings.mapping != got.settings.mapping:
        said.append(
            f"{commands.default_name(wanted)} needs "
            f"{', '.join(sorted(wanted.used() - set(got.channels), key=channel_order))}: "
            f"{commands.default_name(got)} instead"
        )
    else:
        missing = sorted(wanted.used() - got.used(), key=channel_order)
        if missing:
            said.append(
                f"{', '.join(missing)} is not here"
                if len(missing) == 1
                else f"{', '.join(missing)} are not here"
            )
    if wanted.star_set() is not None and got.star_set() is None:
        said.append("its stars are not split here yet")
    crop, mine = wanted.settings.finish.crop, next(iter(got.channels.values())).shape
    theirs = next((c.shape for c in wanted.channels.values()), mine)
    if crop is not None and theirs != mine:
        said.append(
            f"its crop was made for {theirs[1]} × {theirs[0]} px, this is {mine[1]} × {mine[0]}"
        )
    return said

"""A stack on the grid that all share: its plane, its lines, its field of stars."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core.extract.lines import Unmixed
from ...core.measure import find_stars, measure_noise
from ...core.measure.field import StarField, star_field
from ...core.measure.linear import require_linear
from ...core.measure.run import bright_mask
from ...core.model.errors import NotEnoughData
from ...core.model.measures import LargeScale, Stars
from ...core.model.planes import F32, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.smoothing import fill, smooth_mosaic
from ...core.numerics.surface import low_surface
from ..project.state import SourceState
from .context import PrepareContext
from .registration import Registration
from .sources import read_source


@dataclass(frozen=True)
class OnGrid:
    """A mono picture on the common grid; its large-scale noise there, where that was known or the
    picture had to be moved; its field of stars, and its stars.
    """

    picture: Picture
    known: LargeScale | None
    field: StarField | None
    stars: Stars


def plain_line(context: PrepareContext, source: SourceState, picture: Picture, name: str) -> F32:
    """The colour plane that sees most of a line, over its answer; at half size on the common
    grid.
    """
    answer = context.response_of(source).matrix((name,))[:, 0]
    best = int(np.argmax(answer))
    plane = picture.data[best] if picture.colour else smooth_mosaic(picture.data)
    seen = context.registration.preview(source, fill(plane, ~np.isfinite(plane)))
    half = seen / np.float32(answer[best])
    return (half - low_surface(half).rows(0, half.shape[0])).astype(np.float32)


def read_colour(source: SourceState) -> Picture:
    """A colour stack or mosaic, under the pattern that the person gave."""
    picture = read_source(source)
    if picture.colour or picture.header.bayer == source.bayer:
        return picture
    return replace(picture, header=replace(picture.header, bayer=source.bayer or None))


def resampled(
    registration: Registration,
    source: SourceState,
    picture: Picture,
    progress: Progress = SILENT,
    known: LargeScale | None = None,
    stars: Stars | None = None,
) -> OnGrid:
    """A mono picture on the common grid. ``known`` is its large-scale noise, ``stars`` are its own,
    where they were told already: of linear data.

    Raises NotLinear.
    """
    plane = fill(picture.data, ~np.isfinite(picture.data))
    if stars is None:
        stars = find_stars(plane, picture.header.saturation)
        require_linear(picture, plane, stars)
    field = star_field_of(plane, picture.header.saturation, stars)
    if not registration.moves(source):
        one = registration.resampled(source, picture, progress)
        return OnGrid(one, known, field, registration.laid_stars(source, stars, one))
    if known is None:
        mask = bright_mask(plane, stars, picture.header.saturation)
        noise = measure_noise(picture.data, avoid=mask)
        if noise.sigma_eff and noise.method:
            known = LargeScale(noise.sigma_eff, noise.method)
    one = registration.resampled(source, picture, progress)
    scale = registration.stacks[source.id].scale
    laid = registration.laid_stars(source, stars, one)
    return OnGrid(one, known.on_grid(scale) if known else None, field, laid)


def star_field_of(
    plane: F32, saturation: float | None, stars: Stars | None = None
) -> StarField | None:
    """Star width over a whole frame, before anything is cut off; None where there are too few
    stars.
    """
    filled = fill(plane, ~np.isfinite(plane))
    try:
        return star_field(filled, stars or find_stars(filled, saturation), saturation)
    except NotEnoughData:
        return None


def brightest(picture: Picture) -> F32:
    """The colour plane that shows most; of a mosaic its light without the colours."""
    if picture.colour:
        return picture.data[int(np.argmax([np.nanstd(p[::4, ::4]) for p in picture.data]))]
    return smooth_mosaic(picture.data)


def resample_lines(
    context: PrepareContext,
    source: SourceState,
    picture: Picture,
    single: Unmixed,
    progress: Progress,
) -> Unmixed:
    """Lines of a stack on the common grid, with the mask of their stars."""
    registration = context.registration
    if not registration.key(source):
        return single
    lines = {}
    count = len(single.lines)
    for number, (name, plane) in enumerate(single.lines.items()):
        part = progress.part(number / count, (number + 1) / count)
        lines[name] = registration.resampled(source, replace(picture, data=plane), part).data
    stars = registration.laid_mask(source, single.stars)
    return single.resampled(lines, stars, 1 / registration.stacks[source.id].scale)


def known_fields(fields: dict[str, StarField | None]) -> dict[str, StarField]:
    """Without those stacks whose stars told nothing."""
    return {label: field for label, field in fields.items() if field is not None}


def one_plane(picture: Picture, plane: F32) -> Picture:
    """A plane of a colour picture as a picture of its own."""
    return replace(picture, data=plane, header=replace(picture.header, bayer=None))

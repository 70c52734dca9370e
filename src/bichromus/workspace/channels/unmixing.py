"""One colour stack read, unmixed on its own grid, and laid on the common one."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ...core.extract import ColourStack
from ...core.extract.lines import Unmixed, unmix_stack
from ...core.measure.field import StarField
from ...core.model.planes import F32, Picture
from ...core.model.progress import Progress
from ..project.state import SourceState
from .context import PrepareContext
from .matches import known_stars
from .resampling import (
    brightest,
    plain_line,
    read_colour,
    resample_lines,
    star_field_of,
)


@dataclass(frozen=True)
class ReadStack:
    """A colour stack that was read and unmixed: its picture, its lines on the grid, its stars,
    and the ``plain`` planes that the lines came from, by line, to look at.
    """

    frame: Picture
    unmixed: Unmixed
    field: StarField | None
    plain: dict[str, F32]


def unmix_one(context: PrepareContext, source: SourceState, progress: Progress) -> ReadStack:
    """A stack read, unmixed and laid on the grid. Raises InputError, Cancelled."""
    progress.step(0.0, f"reading {source.label}")
    picture = read_colour(source)
    stack = ColourStack(picture, source.lines)
    stars = known_stars(context.store, source)
    single = unmix_stack(stack, context.response_of(source), progress.part(0.1, 0.6), stars)
    plain = {n: plain_line(context, source, picture, n) for n in source.lines}
    field = star_field_of(brightest(picture), picture.header.saturation, stars)
    frame = replace(picture, header=replace(picture.header, bayer=None))
    bare = replace(frame, header=replace(frame.header, saturation=None))
    lines = resample_lines(context, source, bare, single, progress.part(0.6, 1))
    return ReadStack(frame, lines, field, plain)

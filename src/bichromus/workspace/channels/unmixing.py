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
from .resampling import (
    brightest,
    plain_line,
    read_colour,
    resample_lines,
    star_field_of,
)


@dataclass(frozen=True)
class ReadStack:
    """A colour stack that was read and unmixed: its picture, its lines on the grid, its stars."""

    frame: Picture
    unmixed: Unmixed
    field: StarField | None


def unmix_one(
    context: PrepareContext, source: SourceState, plain: dict[str, F32], progress: Progress
) -> ReadStack:
    """``plain`` is filled with the plane of the first stack that holds a line."""
    progress.step(0.0, f"reading {source.label}")
    picture = read_colour(source)
    stack = ColourStack(picture, source.lines)
    single = unmix_stack(stack, context.response_of(source), progress.part(0.1, 0.6))
    for name in source.lines:
        if name not in plain:
            plain[name] = plain_line(context, source, picture, name)
    field = star_field_of(brightest(picture), picture.header.saturation)
    frame = replace(picture, header=replace(picture.header, bayer=None))
    bare = replace(frame, header=replace(frame.header, saturation=None))
    lines = resample_lines(context, source, bare, single, progress.part(0.6, 1))
    return ReadStack(frame, lines, field)

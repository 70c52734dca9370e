"""From one station's stacks to prepared channels: read, extracted, resampled, the sky's gradient
taken off.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final, Protocol

import numpy as np

from ...core.extract import ColourStack, Extraction
from ...core.extract.leaks import Leaks
from ...core.extract.lines import Unmixed, merge_lines, table_leaks, unmix_stack
from ...core.extract.mosaic import demosaic
from ...core.measure import find_stars, measure_noise
from ...core.measure.field import StarField, star_field
from ...core.measure.linear import require_linear
from ...core.measure.run import bright_mask
from ...core.model.channel import CHANNELS
from ...core.model.errors import NotEnoughData
from ...core.model.measures import Stars
from ...core.model.planes import F32, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.smoothing import fill, smooth_mosaic
from ...core.numerics.surface import low_surface
from ..project.state import SourceState
from .cache import prepared_key
from .context import PrepareContext
from .notes import ExtractionNote, Notes
from .origin import Origin
from .prepared import Prepared
from .registration import Registration
from .sources import RGB, read_source

_IN_A_STAR: Final = 0.3
"""A resampled star mask counts from here: a star that moved by part of a pixel stays covered."""


class Task(Protocol):
    """What has to be done for some stacks."""

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        """The stacks that it reads."""
        ...

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        """Prepare their channels, from the cache where they are there. Raises InputError."""
        ...


@dataclass(frozen=True)
class MonoTask:
    """A mono stack: one channel."""

    source: SourceState

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        return (self.source,)

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        source = self.source
        channel = source.lines[0]
        origin = Origin("stack", channel, (source.id,))
        key = prepared_key(
            "mono",
            source.hash,
            *source.lines,
            context.registration.key(source),
            *context.gradient_key(channel),
        )
        found = context.load(key)
        if found is None:
            progress.step(0.05, f"reading {source.label}")
            picture = read_source(source)
            part = progress.part(0.05, 0.5)
            one, sigma, field = resampled(context.registration, source, picture, part)
            progress.step(0.5, f"measuring {source.label}")
            found = context.finish(
                key,
                origin,
                source.label,
                source.hours,
                one,
                Notes(picture.warnings, _known_fields({source.label: field})),
                sigma,
                progress.part(0.5, 1),
            )
        return [_named(found, origin, station_of(source), source)]


@dataclass(frozen=True)
class PlanesTask:
    """A colour stack behind a broad filter, or none: its planes are channels as they are."""

    source: SourceState

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        return (self.source,)

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        source = self.source
        keys = {
            n: prepared_key(
                "plane",
                source.hash,
                n,
                source.bayer,
                context.registration.key(source),
                *context.gradient_key(n),
            )
            for n in source.lines
        }
        found = {n: context.load(k) for n, k in keys.items()}
        if not all(found.values()):
            progress.step(0.05, f"reading {source.label}")
            picture = read_colour(source)
            planes = picture.data if picture.colour else demosaic(picture)
            for number, name in enumerate(source.lines):
                part = progress.part(0.1 + 0.3 * number, 0.4 + 0.3 * number)
                plane = _one_plane(picture, planes[number], name)
                found[name] = self._make(context, keys[name], name, plane, part)
        return [
            _named(p, Origin("plane", n, (source.id,)), station_of(source), source)
            for n, p in found.items()
            if p is not None
        ]

    def _make(
        self, context: PrepareContext, key: str, name: str, plane: Picture, progress: Progress
    ) -> Prepared:
        source = self.source
        one, sigma, field = resampled(context.registration, source, plane, progress)
        return context.finish(
            key,
            Origin("plane", name, (source.id,)),
            source.label,
            source.hours,
            one,
            Notes(plane.warnings, _known_fields({source.label: field})),
            sigma,
            progress,
        )


@dataclass(frozen=True)
class ExtractTask:
    """All colour stacks of one station behind line filters: each unmixed on its own grid, then
    merged on the common.
    """

    sources: tuple[SourceState, ...]

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        return self.sources

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        keys = self._keys(context)
        cached = {n: context.load(k) for n, k in keys.items()}
        found = [p for p in cached.values() if p is not None]
        if len(found) < len(keys):
            found = self._extract(context, keys, progress)
        label = f"{station_of(self.sources[0])}, extracted"
        return [_named(p, self._origin(p.channel), label, self.sources[0]) for p in found]

    def _origin(self, name: str) -> Origin:
        return Origin("extracted", name, tuple(s.id for s in self.sources))

    def _keys(self, context: PrepareContext) -> dict[str, str]:
        table = repr(sorted((k, sorted(v.items())) for k, v in context.response.table.items()))
        parts = [
            f"{s.hash}:{'+'.join(s.lines)}{s.bayer}{context.registration.key(s)}"
            for s in self.sources
        ]
        names = [n for n in CHANNELS if any(n in s.lines for s in self.sources)]
        return {n: prepared_key("line", n, table, *parts, *context.gradient_key(n)) for n in names}

    def _extract(
        self, context: PrepareContext, keys: dict[str, str], progress: Progress
    ) -> list[Prepared]:
        count = len(self.sources)
        plain: dict[str, F32] = {}
        read = []
        for number, source in enumerate(self.sources):
            part = progress.part(0.6 * number / count, 0.6 * (number + 1) / count)
            read.append(_unmix_one(context, source, plain, part))
        progress.step(0.6, "merging lines seen twice")
        table = {s.label: table_leaks(context.response, s.lines) for s in self.sources}
        found = merge_lines([r.unmixed for r in read], table)
        measured = {s.label: r.unmixed.leaks for s, r in zip(self.sources, read, strict=True)}
        fields = _known_fields({s.label: r.field for s, r in zip(self.sources, read, strict=True)})
        out = []
        for number, name in enumerate(found.lines):
            part = progress.part(
                0.6 + 0.4 * number / len(found.lines), 0.6 + 0.4 * (number + 1) / len(found.lines)
            )
            part.step(0.0, f"measuring {name} of {station_of(self.sources[0])}")
            notes = Notes(
                found.warnings, fields, extraction=_extraction_note(found, name, measured)
            )
            out.append(self._keep_line(context, keys[name], found, name, read, notes, plain, part))
        return out

    def _keep_line(
        self,
        context: PrepareContext,
        key: str,
        found: Extraction,
        name: str,
        read: list[_Read],
        notes: Notes,
        plain: dict[str, F32],
        progress: Progress,
    ) -> Prepared:
        line = found.lines[name]
        used = [self.sources[i] for i in line.stacks]
        first = read[line.stacks[0]].frame
        top = _full_level(found, name, [r.frame.header.saturation for r in read])
        picture = replace(first, data=line.plane, header=replace(first.header, saturation=top))
        return context.finish(
            key,
            self._origin(name),
            used[0].label,
            sum(s.hours for s in used if s.hours) or None,
            picture,
            notes,
            line.sigma_eff,
            progress,
            plain.get(name),
        )


def tasks_of(sources: Iterable[SourceState]) -> list[Task]:
    """What has to be done for stacks, station by station."""
    groups: dict[tuple[str, tuple[int, int], bool], list[SourceState]] = {}
    out: list[Task] = []
    for source in sources:
        if not source.colour:
            out.append(MonoTask(source))
        elif source.lines == RGB:
            out.append(PlanesTask(source))
        else:
            # what is resampled to the common grid has its size, whatever it had before
            shape = source.shape if source.preliminary else (0, 0)
            group = source.station or source.camera, shape, source.preliminary
            groups.setdefault(group, []).append(source)
    return [*out, *(ExtractTask(tuple(group)) for group in groups.values())]


@dataclass(frozen=True)
class _Read:
    """A colour stack that was read and unmixed: its picture, its lines on the grid, its stars."""

    frame: Picture
    unmixed: Unmixed
    field: StarField | None


def _unmix_one(
    context: PrepareContext, source: SourceState, plain: dict[str, F32], progress: Progress
) -> _Read:
    """``plain`` is filled with the plane of the first stack that holds a line."""
    progress.step(0.0, f"reading {source.label}")
    picture = read_colour(source)
    stack = ColourStack(picture, source.lines)
    single = unmix_stack(stack, context.response, progress.part(0.1, 0.6))
    for name in source.lines:
        if name not in plain:
            plain[name] = plain_line(context, source, picture, name)
    field = star_field_of(_brightest(picture), picture.header.saturation)
    frame = replace(picture, header=replace(picture.header, debayer=None, bayer=None))
    bare = replace(frame, header=replace(frame.header, saturation=None))
    lines = _resample_lines(context, source, bare, single, progress.part(0.6, 1))
    return _Read(frame, lines, field)


def plain_line(context: PrepareContext, source: SourceState, picture: Picture, name: str) -> F32:
    """The colour plane that sees most of a line, over its answer; at half size on the common
    grid.
    """
    answer = context.response.matrix((name,))[:, 0]
    best = int(np.argmax(answer))
    plane = picture.data[best] if picture.colour else smooth_mosaic(picture.data)
    seen = context.registration.preview(source, fill(plane, ~np.isfinite(plane)))
    half = seen / np.float32(answer[best])
    return (half - low_surface(half).rows(0, half.shape[0])).astype(np.float32)


def station_of(source: SourceState) -> str:
    """Who a stack is from; its file's name where it does not say."""
    return source.station or Path(source.path).name


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
) -> tuple[Picture, float | None, StarField | None]:
    """A mono picture on the common grid; its large-scale noise there where it had to be moved; its
    field of stars.

    Raises NotLinear.
    """
    plane = fill(picture.data, ~np.isfinite(picture.data))
    stars = find_stars(plane, picture.header.saturation)
    require_linear(picture, plane, stars)
    field = star_field_of(plane, picture.header.saturation, stars)
    if not registration.moves(source):
        return registration.resampled(source, picture, progress), None, field
    mask = bright_mask(plane, stars, picture.header.saturation)
    sigma = measure_noise(picture.data, picture.header.debayer, avoid=mask).sigma_eff
    scale = registration.stacks[source.id].scale
    one = registration.resampled(source, picture, progress)
    return one, sigma / scale if sigma else None, field


def star_field_of(
    plane: F32, saturation: float | None, stars: Stars | None = None
) -> StarField | None:
    """Star width over a whole frame, before anything is cut off; None where there are too few
    stars.
    """
    calm = fill(plane, ~np.isfinite(plane))
    try:
        return star_field(calm, stars or find_stars(calm, saturation), saturation)
    except NotEnoughData:
        return None


def _known_fields(fields: dict[str, StarField | None]) -> dict[str, StarField]:
    return {label: field for label, field in fields.items() if field is not None}


def _one_plane(picture: Picture, plane: F32, name: str) -> Picture:
    """A plane of a colour picture as a picture of its own."""
    debayer = picture.header.debayer
    header = replace(picture.header, bayer=None, debayer=f"{debayer} {name}" if debayer else None)
    return replace(picture, data=plane, header=header)


def _brightest(picture: Picture) -> F32:
    """The colour plane that shows most; of a mosaic its light without the colours."""
    if picture.colour:
        return picture.data[int(np.argmax([np.nanstd(p[::4, ::4]) for p in picture.data]))]
    return smooth_mosaic(picture.data)


def _resample_lines(
    context: PrepareContext,
    source: SourceState,
    picture: Picture,
    single: Unmixed,
    progress: Progress,
) -> Unmixed:
    registration = context.registration
    if not registration.key(source):
        return single
    lines = {}
    count = len(single.lines) + 1
    for number, (name, plane) in enumerate(single.lines.items()):
        part = progress.part(number / count, (number + 1) / count)
        lines[name] = registration.resampled(source, replace(picture, data=plane), part).data
    mask = registration.resampled(
        source, Picture(single.stars.astype(np.float32)), progress.part(0.9, 1)
    ).data
    stars = np.nan_to_num(mask) > _IN_A_STAR
    return single.laid(lines, stars, 1 / registration.stacks[source.id].scale)


def _named(prepared: Prepared, origin: Origin, label: str, source: SourceState) -> Prepared:
    """With the origin and label that it has now, whatever they were when it was cached; what comes
    from a preliminary stack says so.
    """
    if source.preliminary:
        night = Path(source.path).name.partition("_")[0]
        label = f"{label}, preliminary {night}"
    return replace(prepared, origin=origin, label=label, preliminary=source.preliminary)


def _full_level(found: Extraction, name: str, tops: list[float | None]) -> float | None:
    """The level of a line where the planes that it comes from are saturated; None where that is
    not known.
    """
    line, scale = found.lines[name], found.scales.get(name)
    out = []
    for index, weights in zip(line.stacks, line.weights, strict=True):
        top = tops[index]
        if top is not None:
            second = scale is not None and index != line.stacks[0]
            out.append(top * sum(weights) / (scale.scale if scale and second else 1.0))
    return min(out) if out else None


def _extraction_note(found: Extraction, name: str, measured: dict[str, Leaks]) -> ExtractionNote:
    line, scale = found.lines[name], found.scales.get(name)
    return ExtractionNote(
        line.snr_gain,
        len(line.stacks),
        found.leaks,
        measured,
        scale.scale if scale else None,
        scale.correlation if scale else None,
    )

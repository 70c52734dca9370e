"""From one station's stacks to prepared channels: read, extracted, resampled, the sky's gradient
taken off.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Final, Protocol

from ...core.extract import Extraction
from ...core.extract.leaks import Leaks
from ...core.extract.lines import merge_lines, table_leaks
from ...core.extract.mosaic import demosaic
from ...core.extract.null import noise_of_planes
from ...core.model.channel import CHANNELS
from ...core.model.measures import LargeScale, Stars
from ...core.model.planes import F32, Picture
from ...core.model.progress import Progress
from ..project.state import SourceState
from ..work.together import side_by_side
from .cache import prepared_key
from .context import PrepareContext
from .matches import known_stars
from .notes import ExtractionNote, Notes
from .origin import Origin
from .prepared import Prepared
from .resampling import (
    known_fields,
    one_plane,
    read_colour,
    resampled,
)
from .sources import RGB, bytes_of, read_source
from .unmixing import ReadStack, unmix_one

_UNMIXED: Final = 0.65  # of the time that extraction takes
_LAID: Final = 0.55  # of a stack's time: laid on the grid
_SOUGHT: Final = 0.45  # the same where its stars are sought and it stays where it is
_TAKEN: Final = 0.08  # the same where they are known


class Task(Protocol):
    """What has to be done for some stacks."""

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        """The stacks that it reads."""
        ...

    def keys(self, context: PrepareContext) -> dict[str, str]:
        """What it makes by channel: names in the cache."""
        ...

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        """Prepare their channels, from the cache where they are there. Raises InputError."""
        ...


@dataclass(frozen=True)
class _OneStack:
    """A task on one stack whose planes are channels as they are."""

    source: SourceState

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        """The stacks that it reads."""
        return (self.source,)

    def _finish(
        self,
        context: PrepareContext,
        key: str,
        origin: Origin,
        plane: Picture,
        progress: Progress,
        known: LargeScale | None = None,
        stars: Stars | None = None,
    ) -> Prepared:
        """A mono picture as a prepared channel: resampled, measured, kept. ``stars`` are those of
        the stack where they were found already.
        """
        source = self.source
        moved = context.registration.moves(source)
        share = _LAID if moved else _SOUGHT if stars is None else _TAKEN
        part = progress.part(0, share)
        found = resampled(context.registration, source, plane, part, known, stars)
        progress.step(share, f"measuring {source.label}")
        notes = Notes(plane.warnings, known_fields({source.label: found.field}))
        return context.finish(
            key,
            origin,
            source.label,
            source.hours,
            found.picture,
            notes,
            found.known,
            progress.part(share, 1),
            stars=found.stars,
        )


class MonoTask(_OneStack):
    """A mono stack: one channel."""

    def keys(self, context: PrepareContext) -> dict[str, str]:
        """What it makes by channel: names in the cache."""
        source, channel = self.source, self.source.lines[0]
        lies = context.registration.key(source)
        last = context.gradient_key(channel)
        return {channel: prepared_key("mono", source.hash, *source.lines, lies, last=last)}

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        """Prepare, from the cache where it is there. Raises InputError, Cancelled."""
        source = self.source
        ((channel, key),) = self.keys(context).items()
        origin = Origin("stack", channel, (source.id,))
        found = context.known(key, progress)
        if found is None:
            progress.step(0.05, f"reading {source.label}")
            part = progress.part(0.05, 1)
            stars = known_stars(context.store, source)
            picture = read_source(source)
            found = self._finish(context, key, origin, picture, part, stars=stars)
        return [_named(found, origin, station_of(source), source)]


class PlanesTask(_OneStack):
    """A colour stack behind a broad filter, or none."""

    def keys(self, context: PrepareContext) -> dict[str, str]:
        """What it makes by channel: names in the cache."""
        source = self.source
        parts = source.bayer, context.registration.key(source)
        return {
            n: prepared_key("plane", source.hash, n, *parts, last=context.gradient_key(n))
            for n in source.lines
        }

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        """Prepare, from the cache where it is there. Raises InputError, Cancelled."""
        source, keys = self.source, self.keys(context)
        origins = {n: Origin("plane", n, (source.id,)) for n in source.lines}
        found = {n: context.known(k, progress) for n, k in keys.items()}
        if not all(found.values()):
            progress.step(0.05, f"reading {source.label}")
            picture = read_colour(source)
            planes = picture.data if picture.colour else demosaic(picture)
            progress.step(0.1, f"telling noise from light in {source.label}")
            noise = noise_of_planes(planes, picture.header.saturation)
            for number, name in enumerate(source.lines):
                part = progress.part(0.2 + 0.25 * number, 0.45 + 0.25 * number)
                plane = one_plane(picture, planes[number])
                found[name] = self._finish(
                    context, keys[name], origins[name], plane, part, noise[number]
                )
        return [
            _named(p, origins[n], station_of(source), source)
            for n, p in found.items()
            if p is not None
        ]


@dataclass(frozen=True)
class ExtractTask:
    """All colour stacks of one station behind line filters: each unmixed on its own grid, then
    merged on the common.
    """

    sources: tuple[SourceState, ...]

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        """The stacks that it reads."""
        return self.sources

    def run(self, context: PrepareContext, progress: Progress) -> list[Prepared]:
        """Prepare, from the cache where it is there. Raises InputError, Cancelled."""
        keys = self.keys(context)
        cached = {n: context.known(k, progress) for n, k in keys.items()}
        found = [p for p in cached.values() if p is not None]
        if len(found) < len(keys):
            found = self._extract(context, keys, progress)
        label = f"{station_of(self.sources[0])}, extracted"
        return [_named(p, self._origin(p.channel), label, self.sources[0]) for p in found]

    def _origin(self, name: str) -> Origin:
        return Origin("extracted", name, tuple(s.id for s in self.sources))

    def keys(self, context: PrepareContext) -> dict[str, str]:
        """What it makes by channel: names in the cache."""
        tables = [context.response_of(s).table for s in self.sources]
        table = repr([sorted((k, sorted(v.items())) for k, v in t.items()) for t in tables])
        parts = [
            f"{s.hash}:{'+'.join(s.lines)}{s.bayer}{context.registration.key(s)}"
            for s in self.sources
        ]
        names = [n for n in CHANNELS if any(n in s.lines for s in self.sources)]
        return {
            n: prepared_key("line", n, table, *parts, last=context.gradient_key(n)) for n in names
        }

    def _extract(
        self, context: PrepareContext, keys: dict[str, str], progress: Progress
    ) -> list[Prepared]:
        plain: dict[str, F32] = {}
        pieces = [partial(unmix_one, context, s) for s in self.sources]
        read = side_by_side(pieces, progress.part(0, _UNMIXED), [bytes_of(s) for s in self.sources])
        for one in reversed(read):  # of each line the plane of the first stack that holds it
            plain.update(one.plain)
        progress.step(_UNMIXED, "merging lines seen twice")
        table = {s.label: table_leaks(context.response_of(s), s.lines) for s in self.sources}
        found = merge_lines([r.unmixed for r in read], table)
        measured = {s.label: r.unmixed.leaks for s, r in zip(self.sources, read, strict=True)}
        fields = known_fields({s.label: r.field for s, r in zip(self.sources, read, strict=True)})
        out = []
        for number, name in enumerate(found.lines):
            part = progress.part(_UNMIXED, 1).part(
                number / len(found.lines), (number + 1) / len(found.lines)
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
        read: list[ReadStack],
        notes: Notes,
        plain: dict[str, F32],
        progress: Progress,
    ) -> Prepared:
        line = found.lines[name]
        used = [self.sources[i] for i in line.stacks]
        first = read[line.stacks[0]].frame
        top = _saturation_of(found, name, [r.frame.header.saturation for r in read])
        picture = replace(first, data=line.plane, header=replace(first.header, saturation=top))
        return context.finish(
            key,
            self._origin(name),
            used[0].label,
            sum(s.hours for s in used if s.hours) or None,
            picture,
            notes,
            LargeScale(line.sigma_eff, line.method),
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


def station_of(source: SourceState) -> str:
    """Who a stack is from; its file's name where it does not say."""
    return source.station or Path(source.path).name


def _named(prepared: Prepared, origin: Origin, label: str, source: SourceState) -> Prepared:
    """With the origin and label that it has now, whatever they were when it was cached; what comes
    from a preliminary stack says so.
    """
    if source.preliminary:
        night = Path(source.path).name.partition("_")[0]
        label = f"{label}, preliminary {night}"
    return replace(prepared, origin=origin, label=label, preliminary=source.preliminary)


def _saturation_of(found: Extraction, name: str, tops: list[float | None]) -> float | None:
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

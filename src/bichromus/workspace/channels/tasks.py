"""From one station's stacks to prepared channels: read, extracted, laid on the grid, the sky's
gradient taken off.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ...core.clean.gradient import Gradient, find_gradient
from ...core.extract import ColourStack, Extraction, Response
from ...core.extract.lines import Unmixed, merge_lines, table_leaks, unmix_stack
from ...core.extract.mosaic import demosaic
from ...core.measure import find_stars, first_look, measure_noise, measure_plane
from ...core.measure.field import star_field
from ...core.measure.linear import require_linear
from ...core.measure.run import bright_mask
from ...core.model.channel import CHANNELS
from ...core.model.errors import InputError, NotEnoughData
from ...core.model.measures import Stars
from ...core.model.planes import F32, Mask, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.smoothing import fill, smooth_mosaic
from ...core.numerics.surface import low_surface
from ..project.state import AUTO, PLANE, ProjectState, SourceState, Spot
from ..project.store import Store
from .prepared import Prepared, core_notes, load_prepared, prepared_key, save_prepared
from .registration import Placing
from .sources import RGB, read_source

Notes = dict[str, Any]


@dataclass(frozen=True)
class Ground:
    """What all tasks of one preparation stand on."""

    store: Store
    state: ProjectState
    placing: Placing
    response: Response

    def sky(self, channel: str) -> tuple[int, tuple[Spot, ...]]:
        """The gradient's degree wanted of a channel, and what was drawn that must not count."""
        return self.state.gradient.get(channel, AUTO), self.state.spared.get(channel, ())

    def sky_key(self, channel: str) -> list[str]:
        degree, spots = self.sky(channel)
        return [f"gradient {degree}", repr(spots)] if spots else [f"gradient {degree}"]


@dataclass(frozen=True)
class _OneStack:
    source: SourceState

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        return (self.source,)


@dataclass(frozen=True)
class Mono(_OneStack):
    """A mono stack: one channel."""

    def run(self, ground: Ground, progress: Progress) -> list[Prepared]:
        source = self.source
        key = prepared_key(
            "mono",
            source.hash,
            *source.lines,
            ground.placing.key(source),
            *ground.sky_key(source.lines[0]),
        )
        found = load_prepared(ground.store.cache, key)
        if found is None:
            progress.step(0.05, f"reading {source.label}")
            picture = read_source(source)
            one, sigma, field = laid(ground.placing, source, picture, progress.part(0.05, 0.5))
            progress.step(0.5, f"measuring {source.label}")
            found = keep(
                ground,
                key,
                source.lines[0],
                source.id,
                source,
                one,
                {
                    "kind": "mono",
                    "warnings": list(picture.warnings),
                    "fields": {source.label: field},
                },
                sigma,
                progress.part(0.5, 1),
            )
        return [marked(replace(found, origin=source.id, label=_who(source)), source)]


@dataclass(frozen=True)
class Planes(_OneStack):
    """A colour stack behind a broad filter, or none: its planes are channels as they are."""

    def run(self, ground: Ground, progress: Progress) -> list[Prepared]:
        source = self.source
        keys = {
            n: prepared_key(
                "plane",
                source.hash,
                n,
                source.bayer,
                ground.placing.key(source),
                *ground.sky_key(n),
            )
            for n in source.lines
        }
        found = {n: load_prepared(ground.store.cache, k) for n, k in keys.items()}
        if not all(found.values()):
            progress.step(0.05, f"reading {source.label}")
            picture = read_colour(source)
            planes = picture.data if picture.colour else demosaic(picture)
            for number, name in enumerate(source.lines):
                part = progress.part(0.1 + 0.3 * number, 0.4 + 0.3 * number)
                header = replace(
                    picture.header,
                    bayer=None,
                    debayer=f"{picture.header.debayer} {name}" if picture.header.debayer else None,
                )
                plane = replace(picture, data=planes[number], header=header)
                one, sigma, field = laid(ground.placing, source, plane, part)
                notes = {
                    "kind": "mono",
                    "warnings": list(picture.warnings),
                    "fields": {source.label: field},
                }
                found[name] = keep(
                    ground, keys[name], name, f"{name}@{source.id}", source, one, notes, sigma, part
                )
        return [
            marked(replace(p, origin=f"{n}@{source.id}", label=_who(source)), source)
            for n, p in found.items()
            if p is not None
        ]


@dataclass(frozen=True)
class Colour:
    """All colour stacks of one station behind line filters: each unmixed on its own grid, then
    merged on the common.
    """

    sources: tuple[SourceState, ...]

    @property
    def stacks(self) -> tuple[SourceState, ...]:
        return self.sources

    def run(self, ground: Ground, progress: Progress) -> list[Prepared]:
        table = repr(sorted((k, sorted(v.items())) for k, v in ground.response.table.items()))
        parts = [
            f"{s.hash}:{'+'.join(s.lines)}{s.bayer}{ground.placing.key(s)}" for s in self.sources
        ]
        names = [n for n in CHANNELS if any(n in s.lines for s in self.sources)]
        keys = {n: prepared_key("line", n, table, *parts, *ground.sky_key(n)) for n in names}
        cached = {n: load_prepared(ground.store.cache, keys[n]) for n in names}
        ids = "-".join(s.id[:6] for s in self.sources)
        label = f"{_who(self.sources[0])}, extracted"
        if all(cached.values()):
            return [
                marked(replace(p, origin=f"{n}@{ids}", label=label), self.sources[0])
                for n, p in cached.items()
                if p is not None
            ]
        singles, frames, fields = [], [], {}
        plain: dict[str, F32] = {}  # of the first stack that holds a line
        for number, source in enumerate(self.sources):
            part = progress.part(
                0.6 * number / len(self.sources), 0.6 * (number + 1) / len(self.sources)
            )
            part.step(0.0, f"reading {source.label}")
            picture = read_colour(source)
            single = unmix_stack(
                ColourStack(picture, source.lines), ground.response, part.part(0.1, 0.6)
            )
            frames.append(
                replace(picture, header=replace(picture.header, debayer=None, bayer=None))
            )
            plain.update(
                {n: plain_line(ground, source, picture, n) for n in source.lines if n not in plain}
            )
            fields[source.label] = field_note(_brightest(picture), picture.header.saturation)
            bare = replace(frames[-1], header=replace(frames[-1].header, saturation=None))
            singles.append(_lay_lines(ground, source, bare, single, part.part(0.6, 1)))
        progress.step(0.6, "merging lines seen twice")
        leaks = {s.label: table_leaks(ground.response, s.lines) for s in self.sources}
        found = merge_lines(singles, leaks)
        measured = {
            s.label: {"values": one.leaks.values, "refused": one.leaks.refused}
            for s, one in zip(self.sources, singles, strict=True)
        }
        out = []
        for number, (name, line) in enumerate(found.lines.items()):
            part = progress.part(
                0.6 + 0.4 * number / len(found.lines), 0.6 + 0.4 * (number + 1) / len(found.lines)
            )
            part.step(0.0, f"measuring {name} of {_who(self.sources[0])}")
            used = [self.sources[i] for i in line.stacks]
            base = used[0].model_copy(
                update={"hours": sum(s.hours for s in used if s.hours) or None}
            )
            first = frames[line.stacks[0]]
            top = _flat_top(found, name, [f.header.saturation for f in frames])
            picture = replace(first, data=line.plane, header=replace(first.header, saturation=top))
            prepared = keep(
                ground,
                keys[name],
                name,
                f"{name}@{ids}",
                base,
                picture,
                {**_notes(found, name), "measured": measured, "fields": fields},
                line.sigma_eff,
                part,
                plain.get(name),
            )
            out.append(
                marked(replace(prepared, origin=f"{name}@{ids}", label=label), self.sources[0])
            )
        return out


def plain_line(ground: Ground, source: SourceState, picture: Picture, name: str) -> F32:
    """The colour plane that sees most of a line, over its answer; at half size on the
    common grid.
    """
    answer = ground.response.matrix((name,))[:, 0]
    best = int(np.argmax(answer))
    plane = picture.data[best] if picture.colour else smooth_mosaic(picture.data)
    half = ground.placing.glimpse(source, fill(plane, ~np.isfinite(plane))) / np.float32(
        answer[best]
    )
    return (half - low_surface(half).rows(0, half.shape[0])).astype(np.float32)


def _who(source: SourceState) -> str:
    return source.station or Path(source.path).name


def read_colour(source: SourceState) -> Picture:
    """A colour stack or mosaic, under the pattern that the person gave."""
    picture = read_source(source)
    if picture.colour or picture.header.bayer == source.bayer:
        return picture
    return replace(picture, header=replace(picture.header, bayer=source.bayer or None))


def laid(
    placing: Placing,
    source: SourceState,
    picture: Picture,
    progress: Progress = SILENT,
) -> tuple[Picture, float | None, Notes | None]:
    """A mono picture on the common grid; its large-scale noise there where it had to be moved; its
    field of stars.

    Raises NotLinear.
    """
    plane = fill(picture.data, ~np.isfinite(picture.data))
    stars = find_stars(plane, picture.header.saturation)
    require_linear(picture, plane, stars)
    field = field_note(plane, picture.header.saturation, stars)
    if not placing.moves(source):
        return placing.laid(source, picture, progress), None, field
    mask = bright_mask(plane, stars, picture.header.saturation)
    sigma = measure_noise(picture.data, picture.header.debayer, avoid=mask).sigma_eff
    return (
        placing.laid(source, picture, progress),
        sigma / placing.places[source.id].scale if sigma else None,
        field,
    )


def field_note(plane: F32, saturation: float | None, stars: Stars | None = None) -> Notes | None:
    """Star width over a whole frame, before anything is cut off; None where there are too few
    stars.
    """
    calm = fill(plane, ~np.isfinite(plane))
    try:
        return star_field(calm, stars or find_stars(calm, saturation), saturation).as_note()
    except NotEnoughData:
        return None


def _brightest(picture: Picture) -> F32:
    """The colour plane that shows most; of a mosaic its light without the colours."""
    if picture.colour:
        return picture.data[int(np.argmax([np.nanstd(p[::4, ::4]) for p in picture.data]))]
    return smooth_mosaic(picture.data)


def _lay_lines(
    ground: Ground, source: SourceState, picture: Picture, single: Unmixed, progress: Progress
) -> Unmixed:
    placing = ground.placing
    if not placing.key(source):
        return single
    lines = {}
    for number, (name, plane) in enumerate(single.lines.items()):
        part = progress.part(
            number / (len(single.lines) + 1), (number + 1) / (len(single.lines) + 1)
        )
        lines[name] = placing.laid(source, replace(picture, data=plane), part).data
    mask = placing.laid(
        source, Picture(single.stars.astype(np.float32)), progress.part(0.9, 1)
    ).data
    return single.laid(lines, np.nan_to_num(mask) > 0.3, 1 / placing.places[source.id].scale)


def marked(prepared: Prepared, source: SourceState) -> Prepared:
    """What comes from a preliminary stack says so."""
    if not source.preliminary:
        return prepared
    night = Path(source.path).name.partition("_")[0]
    return replace(prepared, label=f"{prepared.label}, preliminary {night}", preliminary=True)


def keep(
    ground: Ground,
    key: str,
    channel: str,
    origin: str,
    source: SourceState,
    picture: Picture,
    notes: Notes,
    sigma_eff: float | None,
    progress: Progress = SILENT,
    plain: F32 | None = None,
) -> Prepared:
    """Take the gradient off a channel on the common grid, measure it, and put it into the cache."""
    look = first_look(picture, sigma_eff)
    progress.step(0.5, f"taking the sky off {channel}")
    degree, spots = ground.sky(channel)
    if degree != PLANE:
        try:
            found = find_gradient(
                picture, None if degree == AUTO else degree, drawn(spots, picture.shape), look
            )
        except InputError as error:
            notes = _warned(notes, error.sentence())
        else:
            picture = replace(picture, data=found.take_off(picture.data))
            notes = _warned({**notes, "gradient": gradient_note(found)}, *found.warnings)
    measure = measure_plane(picture, channel, look)
    if picture.header.saturation is not None:
        notes = {
            **notes,
            "top": picture.header.saturation - measure.background,
            "cores": core_notes(picture.data, measure, picture.header.saturation),
        }
    return save_prepared(
        ground.store.cache,
        key,
        channel,
        origin,
        source.label,
        picture.data,
        measure,
        source.hours,
        notes,
        halves={"plain": plain} if plain is not None else None,
    )


def drawn(spots: tuple[Spot, ...], shape: tuple[int, int]) -> Mask | None:
    """Drawn discs as a mask."""
    if not spots:
        return None
    y, x = np.ogrid[: shape[0], : shape[1]]
    out = np.zeros(shape, bool)
    for cx, cy, radius in spots:
        top, bottom = (int(np.clip(v, 0, shape[0])) for v in (cy - radius, cy + radius + 1))
        out[top:bottom] |= (x - cx) ** 2 + (y[top:bottom] - cy) ** 2 <= radius * radius
    return out


def gradient_note(found: Gradient) -> Notes:
    """A gradient with all that is needed to show it again: its terms, and which tiles it
    stands on.
    """
    tiles = found.tiles
    return {
        "degree": found.degree,
        "before": found.before_sigma,
        "after": found.after_sigma,
        "level": found.level,
        "terms": list(found.model.terms),
        "shape": list(found.model.shape),
        "size": tiles.size,
        "tiles": [
            [round(float(x)), round(float(y)), bool(u)]
            for x, y, u in zip(tiles.x, tiles.y, tiles.used, strict=True)
        ],
    }


def _flat_top(found: Extraction, name: str, tops: list[float | None]) -> float | None:
    """The level of a line where the planes that it comes from are full; None where that is not
    known.
    """
    line, scale = found.lines[name], found.scales.get(name)
    out = []
    for index, weights in zip(line.stacks, line.weights, strict=True):
        top = tops[index]
        if top is not None:
            out.append(
                top * sum(weights) / (scale.scale if scale and index != line.stacks[0] else 1.0)
            )
    return min(out) if out else None


def _warned(notes: Notes, *more: str) -> Notes:
    return {**notes, "warnings": [*notes.get("warnings", []), *more]}


def _notes(found: Extraction, name: str) -> Notes:
    line = found.lines[name]
    scale = found.scales.get(name)
    return {
        "kind": "extracted",
        "snr_gain": line.snr_gain,
        "stacks": len(line.stacks),
        "weights": [list(w) for w in line.weights],
        "leaks": found.leaks,
        "scale": scale.scale if scale else None,
        "correlation": scale.correlation if scale else None,
        "warnings": list(found.warnings),
    }


def tasks_of(state: ProjectState) -> list[Mono | Planes | Colour]:
    """What has to be done for the stacks of a state, station by station."""
    groups: dict[tuple[str, tuple[int, int], bool], list[SourceState]] = {}
    out: list[Mono | Planes | Colour] = []
    for source in state.sources:
        if not source.colour:
            out.append(Mono(source))
        elif source.lines == RGB:
            out.append(Planes(source))
        else:
            # what is laid on the common grid has its size, whatever it had before
            shape = source.shape if source.preliminary else (0, 0)
            groups.setdefault(
                (source.station or source.camera, shape, source.preliminary), []
            ).append(source)
    return [*out, *(Colour(tuple(group)) for group in groups.values())]

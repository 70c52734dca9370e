"""From opened stacks to prepared channels: read, extract, measure, cache."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ..core.clean.gradient import find_gradient
from ..core.extract import ColourStack, Extraction, extract_lines, load_response
from ..core.files import read_picture
from ..core.measure import measure_plane
from ..core.model.channel import CHANNELS, filter_name
from ..core.model.errors import InputError, UnreadableFile
from ..core.model.planes import F32, Header, Picture
from ..core.model.progress import SILENT, Progress
from ..core.pool.stacks import pool
from .placing import Placing, place_all
from .prepared import FORMAT, Prepared, load_prepared, save_prepared
from .state import ProjectState, SourceState
from .store import Store


@dataclass(frozen=True)
class Channels:
    """All prepared channels by origin id, and which one each channel is taken from."""

    origins: dict[str, Prepared]
    chosen: dict[str, str]
    warnings: tuple[str, ...] = ()
    placing: Placing = field(default_factory=Placing)

    def channel(self, name: str) -> Prepared:
        return self.origins[self.chosen[name]]

    @property
    def names(self) -> list[str]:
        return [n for n in CHANNELS if n in self.chosen]

    def of(self, name: str) -> list[Prepared]:
        """All origins of a channel, the best SNR first; preliminary ones last."""
        found = [p for p in self.origins.values() if p.channel == name]
        return sorted(found, key=lambda p: (p.preliminary, -(p.measure.snr or 0)))

    @property
    def grid(self) -> tuple[int, int] | None:
        """Height and width of what can be blended."""
        return grid_of(self.origins)


EMPTY = Channels({}, {})


def grid_of(origins: dict[str, Prepared]) -> tuple[int, int] | None:
    """The size of the stacks; that of the newest preliminary one where there is no other."""
    stacks = [p for p in origins.values() if not p.preliminary]
    if stacks:
        return stacks[0].shape
    return list(origins.values())[-1].shape if origins else None


def inspect(store: Store, paths: Sequence[Path], existing: Sequence[SourceState], progress: Progress = SILENT,
            preliminary: bool = False) -> tuple[list[SourceState], list[InputError]]:
    """Read files to be opened. What cannot be used comes back as an error each; the rest is kept.

    Preliminary stacks may lie on a grid of their own.
    """
    found: list[SourceState] = []
    errors: list[InputError] = []
    for number, path in enumerate(paths):
        progress.step(number / max(len(paths), 1), f"reading {path.name}")
        try:
            source = _inspect_one(store, path, [*existing, *found], preliminary)
        except InputError as error:
            errors.append(error)
            continue
        if source is not None:
            found.append(source)
    return found, errors


def _inspect_one(store: Store, path: Path, others: Sequence[SourceState],
                 preliminary: bool) -> SourceState | None:
    picture = read_picture(path)
    digest = source_hash(store, path)
    if any(s.hash == digest for s in others):
        return None
    if picture.header.bayer and not picture.colour:
        raise InputError("This is a mosaic, not a debayered stack", why=f"pattern {picture.header.bayer}",
                         do="Debayer it first", file=path)
    header = picture.header
    known = header.filter or filter_name(path.stem.rsplit("_", 1)[-1])
    lines = known.lines
    if picture.colour and not (len(lines) in (1, 2, 3) and set(lines) <= {"Ha", "O3", "S2", "Hb"}):
        lines = ("Ha", "O3")
    elif not picture.colour and len(lines) != 1:
        lines = ("L",)
    return SourceState(id=digest[:12], path=str(path.absolute()), hash=digest, colour=picture.colour, lines=lines,
                       shape=picture.shape, station=header.station or "", camera=header.camera or "",
                       hours=header.total_s / 3600 if header.total_s else None, subs=header.subs,
                       sub_s=header.exposure_s, scale_arcsec=header.scale_arcsec,
                       object_name=header.object_name or "", preliminary=preliminary)


def source_hash(store: Store, path: Path) -> str:
    """SHA-256 of a file, remembered as long as the file does not change."""
    known = store.known_hash(path)
    if known:
        return known
    try:
        with open(path, "rb") as handle:
            digest = hashlib.file_digest(handle, "sha256").hexdigest()
        store.remember_hash(path, digest)
    except OSError as error:
        raise UnreadableFile("This file cannot be read", why=error.strerror or str(error),
                             do="Check the disk", file=path) from error
    return digest


def prepare(store: Store, state: ProjectState, progress: Progress = SILENT) -> Channels:
    """All channels of a state, from the cache where nothing above them changed. Raises InputError, Cancelled."""
    placing = place_all(store, state.sources, state.reference, state.crop, progress.part(0, 0.25))
    usable = state.model_copy(update={"sources": tuple(s for s in state.sources if s.id not in placing.refused)})
    tasks: list[_Mono | _Colour] = [*_mono_tasks(usable, placing), *_colour_tasks(usable, placing)]
    origins: dict[str, Prepared] = {}
    warnings = [*placing.refused.values(), *placing.warnings]
    for number, task in enumerate(tasks):
        part = progress.part(0.25 + 0.55 * number / len(tasks), 0.25 + 0.55 * (number + 1) / len(tasks))
        for prepared in task.run(store, part):
            origins[prepared.origin] = prepared
            warnings += [str(w) for w in prepared.notes.get("warnings", []) if not prepared.preliminary]
    for number, name in enumerate(state.pooled):
        part = progress.part(0.8 + 0.2 * number / len(state.pooled), 0.8 + 0.2 * (number + 1) / len(state.pooled))
        try:
            pooled = pool_channel(store, name, origins, state.left_out, part)
        except InputError as error:
            warnings.append(error.sentence())
            continue
        if pooled is not None:
            origins[pooled.origin] = pooled
            warnings += [str(w) for w in pooled.notes.get("warnings", [])]
    progress.step(1.0)
    return Channels(origins, choose(state, origins), tuple(dict.fromkeys(warnings)), placing)


def choose(state: ProjectState, origins: dict[str, Prepared]) -> dict[str, str]:
    """For each channel the person's choice, else the origin with the best SNR."""
    chosen: dict[str, str] = {}
    grid = grid_of(origins)
    for name in CHANNELS:
        fits = [p for p in origins.values() if p.channel == name and p.shape == grid]
        here = [p for p in fits if not p.preliminary or p.origin == state.chosen.get(name)] or fits
        if not here:
            continue
        wanted = state.chosen.get(name)
        # a pool that was asked for is what is wanted
        best = next((p for p in here if p.notes.get("kind") == "pooled"), None) or max(
            here, key=lambda p: p.measure.snr or 0)
        chosen[name] = wanted if wanted in {p.origin for p in here} else best.origin
    return chosen


@dataclass(frozen=True)
class _Mono:
    source: SourceState
    placing: Placing
    degree: int | None = None

    def run(self, store: Store, progress: Progress) -> list[Prepared]:
        key = _key("mono", self.source.hash, *self.source.lines, *_more(self.placing.key(self.source), self.degree))
        found = load_prepared(store.cache, key)
        if found is None:
            progress.step(0.05, f"reading {self.source.label}")
            picture = self.placing.laid(self.source, _read(self.source), progress.part(0.05, 0.5))
            progress.step(0.5, f"measuring {self.source.label}")
            found = _keep(store, key, self.source.lines[0], self.source.id, self.source, picture,
                          {"kind": "mono", "warnings": list(picture.warnings)}, self.degree)
        label = self.source.station or Path(self.source.path).name
        return [_marked(replace(found, origin=self.source.id, label=label), self.source)]


@dataclass(frozen=True)
class _Colour:
    """All colour stacks of one station, extracted together."""

    sources: tuple[SourceState, ...]
    response: str
    placing: Placing
    degrees: dict[str, int]

    def run(self, store: Store, progress: Progress) -> list[Prepared]:
        response = load_response(self.response)
        table = repr(sorted((k, sorted(v.items())) for k, v in response.table.items()))
        parts = [f"{s.hash}:{'+'.join(s.lines)}{self.placing.key(s)}" for s in self.sources]
        names = [n for n in CHANNELS if any(n in s.lines for s in self.sources)]
        keys = {n: _key("line", n, table, *parts, *_more("", self.degrees.get(n))) for n in names}
        cached = {n: load_prepared(store.cache, keys[n]) for n in names}
        ids = "-".join(s.id[:6] for s in self.sources)
        label = (self.sources[0].station or Path(self.sources[0].path).name) + ", extracted"
        if all(cached.values()):
            return [_marked(replace(p, origin=f"{n}@{ids}", label=label), self.sources[0])
                    for n, p in cached.items() if p is not None]
        stacks = []
        for number, s in enumerate(self.sources):
            part = progress.part(0.25 * number / len(self.sources), 0.25 * (number + 1) / len(self.sources))
            part.step(0.0, f"reading {s.label}")
            stacks.append(ColourStack(self.placing.laid(s, _read(s), part), s.lines))
        found = extract_lines(stacks, response, progress.part(0.25, 0.7))
        out = []
        for number, (name, line) in enumerate(found.lines.items()):
            progress.step(0.7 + 0.3 * number / len(found.lines), f"measuring {name} of {self.sources[0].station}")
            used = [self.sources[i] for i in line.stacks]
            hours = sum(s.hours for s in used if s.hours) or None
            first = replace(stacks[line.stacks[0]].picture, data=line.plane)
            first = replace(first, header=replace(first.header, saturation=None, debayer=None))
            base = used[0].model_copy(update={"hours": hours})
            prepared = _keep(store, keys[name], name, f"{name}@{ids}", base, first, _notes(found, name),
                             self.degrees.get(name))
            out.append(_marked(replace(prepared, origin=f"{name}@{ids}", label=label), self.sources[0]))
        return out


def _marked(prepared: Prepared, source: SourceState) -> Prepared:
    """What comes from a preliminary stack says so."""
    if not source.preliminary:
        return prepared
    night = Path(source.path).name.partition("_")[0]
    return replace(prepared, label=f"{prepared.label}, preliminary {night}", preliminary=True)


def _notes(found: Extraction, name: str) -> dict[str, object]:
    line = found.lines[name]
    scale = found.scales.get(name)
    return {"kind": "extracted", "snr_gain": line.snr_gain, "stacks": len(line.stacks),
            "weights": [list(w) for w in line.weights], "leaks": found.leaks,
            "scale": scale.scale if scale else None, "correlation": scale.correlation if scale else None,
            "warnings": list(found.warnings)}


def _mono_tasks(state: ProjectState, placing: Placing) -> list[_Mono]:
    return [_Mono(s, placing, state.gradient.get(s.lines[0])) for s in state.sources if not s.colour]


def _colour_tasks(state: ProjectState, placing: Placing) -> list[_Colour]:
    groups: dict[tuple[str, tuple[int, int], bool], list[SourceState]] = {}
    for source in state.sources:
        if source.colour:
            # what is laid on the common grid has its size, whatever it had before
            shape = source.shape if source.preliminary else (0, 0)
            groups.setdefault((source.station or source.camera, shape, source.preliminary), []).append(source)
    return [_Colour(tuple(group), state.response, placing, state.gradient) for group in groups.values()]


def _more(place: str, degree: int | None) -> list[str]:
    """What the key of a prepared channel holds beside its stack; nothing where nothing was done."""
    return [p for p in (place, f"gradient {degree}" if degree is not None else "") if p]


def pool_channel(store: Store, name: str, origins: Mapping[str, Prepared], left_out: Sequence[str],
                 progress: Progress = SILENT) -> Prepared | None:
    """All origins of a channel in one, but for those left out; None where there are fewer than two.

    Raises NotEnoughData where their brightness cannot be compared.
    """
    members = [p for p in origins.values() if p.channel == name and not p.preliminary and p.origin not in left_out]
    if len(members) < 2:
        return None
    key = _key("pool", name, *sorted(p.key for p in members))
    hours = sum(p.hours for p in members if p.hours) or None
    label = f"pooled, {len(members)} stacks"
    found = load_prepared(store.cache, key)
    if found is None:
        pictures = [Picture(_with_holes(p), Header(total_s=p.hours * 3600 if p.hours else None), Path(p.label))
                    for p in members]
        made = pool(pictures, progress=progress.part(0, 0.7))
        progress.step(0.7, f"measuring the pooled {name}")
        picture = Picture(made.data, Header())
        notes: dict[str, object] = {
            "kind": "pooled", "gain": made.together / made.alone, "warnings": list(made.warnings),
            "parts": [{"origin": p.origin, "label": p.label, "weight": part.weight, "flux": part.flux.scale,
                       "from": part.flux.origin, "rejected": part.rejected}
                      for p, part in zip(members, made.parts, strict=True)]}
        found = save_prepared(store.cache, key, name, f"pool@{name}", label, picture.data,
                              measure_plane(picture, name), hours, notes)
    return replace(found, origin=f"pool@{name}", label=label, hours=hours)


def _with_holes(prepared: Prepared) -> F32:
    """The plane with NaN where nothing was seen: there it was set to zero to the last bit, as no pixel of data is."""
    plane = np.array(prepared.levels[0], np.float32)
    plane[plane == 0] = np.nan
    return plane


def _read(source: SourceState) -> Picture:
    path = Path(source.path)
    if not path.exists():
        raise UnreadableFile("A stack of this project is no longer where it was",
                             why="it was moved or its disk is away",
                             do="Bring it back, or remove it from the project", file=path)
    return read_picture(path)


def _keep(store: Store, key: str, channel: str, origin: str, source: SourceState, picture: Picture,
          notes: dict[str, object], degree: int | None = None) -> Prepared:
    if degree is not None:
        found = find_gradient(picture, None if degree < 0 else degree)
        picture = replace(picture, data=found.take_off(picture.data))
        notes = {**notes, "gradient": {"degree": found.degree, "before": found.before_sigma,
                                       "after": found.after_sigma},
                 "warnings": [*list(notes.get("warnings", [])), *found.warnings]}  # type: ignore[call-overload]
    measure = measure_plane(picture, channel)
    return save_prepared(store.cache, key, channel, origin, source.label, picture.data, measure, source.hours, notes)


def _key(*parts: str) -> str:
    return hashlib.sha256("\n".join((str(FORMAT), *parts)).encode()).hexdigest()[:24]

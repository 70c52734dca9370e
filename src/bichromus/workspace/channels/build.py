"""From opened stacks to prepared channels: laid on one grid, made, pooled, finished; each step from
the cache.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from ...core.extract import load_response
from ...core.model.channel import CHANNELS
from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ..project.responses import find_response
from ..project.state import ProjectState
from ..project.store import Store
from .pool import pool_channel
from .postprocess import stars_in_colour, without_continuum, without_stars
from .prepared import Prepared
from .registration import Placing, place_all
from .sources import RGB
from .tasks import Ground, tasks_of


@dataclass(frozen=True)
class Channels:
    """All prepared channels by origin id, and which one each channel is taken from; starless layers
    by channel, and the stars in colour where R, G and B were split; ``refused`` says by stack why
    it could not be used.
    """

    origins: dict[str, Prepared]
    chosen: dict[str, str]
    warnings: tuple[str, ...] = ()
    placing: Placing = field(default_factory=Placing)
    starless: dict[str, Prepared] = field(default_factory=dict)
    coloured: dict[str, Prepared] = field(default_factory=dict)
    refused: dict[str, str] = field(default_factory=dict)

    def channel(self, name: str) -> Prepared:
        return self.origins[self.chosen[name]]

    @property
    def names(self) -> list[str]:
        return [n for n in CHANNELS if n in self.chosen]

    def of(self, name: str) -> list[Prepared]:
        """All origins of a channel, the best SNR first; preliminary ones last."""
        found = [p for p in self.origins.values() if p.channel == name]
        return sorted(found, key=lambda p: (p.preliminary, -(p.measure.snr or 0)))

    def alone(self, name: str) -> list[Prepared]:
        """The origins of a channel that are no pool and no line without its continuum, the best SNR
        first.
        """
        return [
            p
            for p in self.of(name)
            if p.notes.get("kind") != "pooled" and "continuum" not in p.notes
        ]

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


def prepare(store: Store, state: ProjectState, progress: Progress = SILENT) -> Channels:
    """All channels of a state, from the cache where nothing above them changed. Raises InputError,
    Cancelled.
    """
    placing = place_all(store, state.sources, state.reference, state.crop, progress.part(0, 0.2))
    usable = state.model_copy(
        update={"sources": tuple(s for s in state.sources if s.id not in placing.refused)}
    )
    ground = Ground(store, usable, placing, load_response(find_response(store, state.response)))
    tasks = tasks_of(usable)
    origins: dict[str, Prepared] = {}
    warnings = [*placing.refused.values(), *placing.warnings]
    faults: list[InputError] = []
    refused = dict(placing.refused)
    for number, task in enumerate(tasks):
        part = progress.part(0.2 + 0.5 * number / len(tasks), 0.2 + 0.5 * (number + 1) / len(tasks))
        try:
            made = task.run(ground, part)
        except InputError as error:
            faults.append(error)  # one bad stack does not take the others along
            refused.update({s.id: error.sentence() for s in task.stacks})
            continue
        for prepared in made:
            origins[prepared.origin] = prepared
            warnings += [
                str(w) for w in prepared.notes.get("warnings", []) if not prepared.preliminary
            ]
    if faults and not origins:
        raise faults[0]
    _pool_all(store, state, origins, warnings, progress.part(0.7, 0.85))
    starless = _finish_all(store, state, origins, warnings, progress.part(0.85, 0.97))
    chosen = choose(state, origins)
    coloured: dict[str, Prepared] = {}
    if set(RGB) <= set(starless):
        try:
            coloured = stars_in_colour(
                store, {n: origins[chosen[n]] for n in RGB}, starless, progress.part(0.97, 1)
            )
            warnings += coloured["R"].notes["warnings"]
        except InputError as error:
            warnings.append(error.sentence())
    progress.step(1.0)
    warnings = [*(f.sentence() for f in faults), *warnings]
    return Channels(
        origins, chosen, tuple(dict.fromkeys(warnings)), placing, starless, coloured, refused
    )


def _pool_all(
    store: Store,
    state: ProjectState,
    origins: dict[str, Prepared],
    warnings: list[str],
    progress: Progress,
) -> None:
    """Add the pool of every channel that comes from several origins. One that cannot be made is
    told.
    """
    for number, name in enumerate(CHANNELS):
        try:
            pooled = pool_channel(
                store,
                name,
                origins,
                state.left_out,
                progress.part(number / len(CHANNELS), (number + 1) / len(CHANNELS)),
            )
        except InputError as error:
            warnings.append(error.sentence())
            continue
        if pooled is not None:
            origins[pooled.origin] = pooled
            warnings += [str(w) for w in pooled.notes.get("warnings", [])]


def _finish_all(
    store: Store,
    state: ProjectState,
    origins: dict[str, Prepared],
    warnings: list[str],
    progress: Progress,
) -> dict[str, Prepared]:
    """Add lines without their continuum where asked; the starless layers by channel."""
    starless: dict[str, Prepared] = {}
    chosen = choose(state, origins)
    wanted = [n for n in chosen if n in state.continuum or n in state.split]
    for number, name in enumerate(wanted):
        part = progress.part(number / len(wanted), (number + 1) / len(wanted))
        broad = chosen.get(state.continuum.get(name, ""))
        try:
            if broad is not None:
                net = without_continuum(
                    store, origins[chosen[name]], origins[broad], part.part(0, 0.4)
                )
                origins[net.origin] = net
                chosen[name] = net.origin
            if name in state.split:
                starless[name] = without_stars(
                    store, origins[chosen[name]], state.layers.get(name, ""), part.part(0.4, 1)
                )
        except InputError as error:
            warnings.append(error.sentence())
    return starless


def choose(state: ProjectState, origins: dict[str, Prepared]) -> dict[str, str]:
    """For each channel the person's choice, else its pool, else the origin with the best SNR."""
    chosen: dict[str, str] = {}
    grid = grid_of(origins)
    for name in CHANNELS:
        net = f"net@{name}"
        if name in state.continuum and net in origins:
            chosen[name] = net
            continue
        fits = [
            p for p in origins.values() if p.channel == name and p.shape == grid and p.origin != net
        ]
        here = [p for p in fits if not p.preliminary or p.origin == state.chosen.get(name)] or fits
        if not here:
            continue
        wanted = state.chosen.get(name)
        best = next((p for p in here if p.notes.get("kind") == "pooled"), None) or max(
            here, key=lambda p: p.measure.snr or 0
        )
        chosen[name] = wanted if wanted in {p.origin for p in here} else best.origin
    return chosen

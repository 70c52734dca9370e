"""From opened stacks to prepared channels: registered, made, pooled, cleaned, split; each step from
the cache.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Final

from ...core.extract import load_response
from ...core.model.channel import CHANNELS
from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ..project.responses import find_response
from ..project.state import PreparationState
from ..project.store import Store
from ..work.together import side_by_side
from . import costs
from .cleaning import STEPS, clean
from .context import PrepareContext
from .origin import cleaned, pooled
from .pool import pool_channel, told_together
from .prepared import Prepared
from .registration import Registration, register_stacks, unmatched
from .sources import RGB, bytes_of
from .star_split import coloured_stars, without_stars
from .tasks import Task, tasks_of

_LITTLE: Final = 0.01  # seconds
_BEFORE_COLOURS: Final = 0.9  # of what follows the pools
_POOL_PLANES: Final = 8  # of memory that a pool takes with its measuring, at its most


@dataclass(frozen=True)
class Channels:
    """All prepared channels by the key of their origin, and which one each channel is taken from;
    starless layers by channel, and the stars in colour where R, G and B were split; ``refused``
    says by stack why it could not be used. ``rough``: a quick look, until the true ones are there.
    """

    origins: dict[str, Prepared]
    chosen: dict[str, str]
    warnings: tuple[str, ...] = ()
    registration: Registration = field(default_factory=Registration)
    starless: dict[str, Prepared] = field(default_factory=dict)
    star_colours: dict[str, Prepared] = field(default_factory=dict)
    refused: dict[str, str] = field(default_factory=dict)
    rough: bool = False

    def channel(self, name: str) -> Prepared:
        """The prepared channel in use. Raises KeyError."""
        return self.origins[self.chosen[name]]

    @property
    def in_use(self) -> dict[str, Prepared]:
        """The prepared channels in use, by name."""
        return {n: self.channel(n) for n in self.names}

    @property
    def names(self) -> list[str]:
        """Channels that are there, in their usual order."""
        return [n for n in CHANNELS if n in self.chosen]

    def of(self, name: str) -> list[Prepared]:
        """All origins of a channel, the best SNR first; preliminary ones last."""
        found = [p for p in self.origins.values() if p.channel == name]
        return sorted(found, key=lambda p: (p.preliminary, -(p.measure.snr or 0)))

    def alone(self, name: str) -> list[Prepared]:
        """The origins of a channel that were neither pooled nor cleaned, the best SNR first."""
        return [p for p in self.of(name) if p.origin.kind not in ("pooled", "cleaned")]

    def pool(self, name: str) -> Prepared | None:
        """The pool of a channel."""
        return self.origins.get(pooled(name).key)

    def cleaned(self, name: str, step: str) -> Prepared | None:
        """What a cleaning step left of a channel."""
        return self.origins.get(cleaned(name, step).key)

    def uses_pool(self, name: str) -> bool:
        """Whether a channel is taken from its pool, cleaned or not."""
        found = self.origins.get(self.chosen.get(name, ""))
        return found is not None and found.notes.pool is not None

    @property
    def keys(self) -> set[str]:
        """Names in the cache of all that is in use."""
        kept = (*self.origins.values(), *self.starless.values(), *self.star_colours.values())
        return {p.key for p in kept}

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


def prepare(store: Store, wanted: PreparationState, progress: Progress = SILENT) -> Channels:
    """All channels of a preparation, from the cache where nothing above them changed. Raises
    InputError, Cancelled.
    """
    new = unmatched(store, wanted.sources, wanted.reference)
    share = costs.before(new, wanted, costs.sampled(new)) if new else 0.0
    registration = register_stacks(
        store, wanted.sources, wanted.reference, wanted.crop, progress.part(0, share)
    )
    responses = {
        s.eye: load_response(find_response(store, wanted.response_of(s.eye)))
        for s in wanted.sources
        if s.colour
    }
    build = _Build(PrepareContext(store, wanted, registration, responses))
    rest = progress.part(share, 1)
    made, pooled, finished = build.costs()
    whole = made + pooled + finished
    build.make_origins(rest.part(0, made / whole))
    build.pool_all(rest.part(made / whole, (made + pooled) / whole))
    last = rest.part((made + pooled) / whole, 1)
    build.finish_all(last.part(0, _BEFORE_COLOURS))
    build.colour_stars(last.part(_BEFORE_COLOURS, 1))
    progress.step(1.0)
    return build.result()


class _Build:
    """Channels on their way: what was made, and what is to be said of it."""

    def __init__(self, context: PrepareContext) -> None:
        self._context = context
        self._wanted = context.preparation
        self._origins: dict[str, Prepared] = {}
        self._starless: dict[str, Prepared] = {}
        self._star_colours: dict[str, Prepared] = {}
        self._faults: list[InputError] = []
        self._refused = dict(context.registration.refused)
        usable = [s for s in self._wanted.sources if s.id not in self._refused]
        self._tasks = tasks_of(usable)
        self._times = [costs.made(task, context) for task in self._tasks]
        self._needs = [sum(map(bytes_of, t.stacks)) for t in self._tasks]
        self._warnings = [*self._refused.values(), *context.registration.warnings]

    def costs(self) -> tuple[float, float, float]:
        """About how long origins, pools and all that follows will take."""
        some = any(cost > _LITTLE for cost in self._times)
        stacks = [s for t in self._tasks for s in t.stacks]
        store = self._context.store
        pooled = costs.pooled(stacks, store) if some else _LITTLE
        finished = costs.finished(self._wanted, store)
        made = sum(self._times) * costs.in_turn(self._needs)
        return made + _LITTLE, pooled + _LITTLE, finished

    def make_origins(self, progress: Progress) -> None:
        """Run the tasks of all stacks. One bad stack does not take the others along; the first
        fault is raised where nothing could be made.
        """

        def run(task: Task, part: Progress) -> list[Prepared] | InputError:
            try:
                return task.run(self._context, part)
            except InputError as error:
                return error

        pieces = [partial(run, task) for task in self._tasks]
        found = side_by_side(pieces, progress, self._needs, self._times)
        for task, made in zip(self._tasks, found, strict=True):
            if isinstance(made, InputError):
                self._faults.append(made)
                self._refused.update({s.id: made.sentence() for s in task.stacks})
            else:
                self._add(made)
        if self._faults and not self._origins:
            raise self._faults[0]

    def pool_all(self, progress: Progress) -> None:
        """Add the pool of every channel that comes from several origins."""
        origins = dict(self._origins)

        def run(name: str, part: Progress) -> Prepared | InputError | None:
            try:
                return pool_channel(self._context.store, name, origins, self._wanted.left_out, part)
            except InputError as error:
                return error

        names = [n for n in CHANNELS if any(p.channel == n for p in origins.values())]
        needs = [_pool_bytes(name, origins) for name in names]
        for made in side_by_side([partial(run, name) for name in names], progress, needs):
            if isinstance(made, InputError):
                self._warnings.append(made.sentence())
            elif made is not None:
                self._add([made])
                self._origins.update(told_together(made, self._origins))

    def finish_all(self, progress: Progress) -> None:
        """Run the cleaning steps that are on, and split the stars off where asked."""
        chosen = choose(self._wanted, self._origins)
        cleaning = self._wanted.cleaning.values()
        wanted = [n for n in chosen if n in self._wanted.split or any(n in on for on in cleaning)]
        for number, name in enumerate(wanted):
            part = progress.part(number / len(wanted), (number + 1) / len(wanted))
            try:
                self._clean(name, chosen, part.part(0, 0.4))
                if name in self._wanted.split:
                    self._starless[name] = without_stars(
                        self._context.store,
                        self._origins[chosen[name]],
                        self._wanted.layers.get(name, ""),
                        part.part(0.4, 1),
                    )
            except InputError as error:
                self._warnings.append(error.sentence())

    def _clean(self, name: str, chosen: dict[str, str], progress: Progress) -> None:
        """``chosen`` then holds what the last step left."""
        for step in STEPS:
            setting = self._wanted.cleaning.get(step.id, {}).get(name)
            if setting is None:
                continue
            needed = step.needs(setting)
            others = {n: self._origins[chosen[n]] for n in needed if n in chosen}
            if len(others) < len(needed):
                continue
            prepared = self._origins[chosen[name]]
            made = clean(step, self._context.store, prepared, setting, others, progress)
            self._origins[made.id] = made
            chosen[name] = made.id

    def colour_stars(self, progress: Progress) -> None:
        """Give the stars their natural colour where R, G and B are split."""
        if not set(RGB) <= set(self._starless):
            return
        chosen = choose(self._wanted, self._origins)
        whole = {n: self._origins[chosen[n]] for n in RGB}
        try:
            self._star_colours = coloured_stars(
                self._context.store, "rgb", whole, self._starless, progress
            )
        except InputError as error:
            self._warnings.append(error.sentence())
        else:
            self._warnings += self._star_colours["R"].notes.warnings

    def result(self) -> Channels:
        """What was made."""
        warnings = [*(f.sentence() for f in self._faults), *self._warnings]
        return Channels(
            self._origins,
            choose(self._wanted, self._origins),
            tuple(dict.fromkeys(warnings)),
            self._context.registration,
            self._starless,
            self._star_colours,
            self._refused,
        )

    def _add(self, made: Iterable[Prepared]) -> None:
        for prepared in made:
            self._origins[prepared.id] = prepared
            if not prepared.preliminary:
                self._warnings += prepared.notes.warnings


def _pool_bytes(name: str, origins: Mapping[str, Prepared]) -> float:
    """Memory that pooling a channel takes, however many stacks it has."""
    shapes = (p.shape for p in origins.values() if p.channel == name)
    return max(4.0 * _POOL_PLANES * height * width for height, width in shapes)


def choose(wanted: PreparationState, origins: dict[str, Prepared]) -> dict[str, str]:
    """For each channel what the last cleaning step left, else the person's choice, else its pool,
    else the origin with the best SNR.
    """
    chosen: dict[str, str] = {}
    grid = grid_of(origins)
    for name in CHANNELS:
        done = _last_cleaned(wanted, origins, name)
        if done is not None:
            chosen[name] = done
            continue
        here = _eligible(wanted, origins, name, grid)
        if not here:
            continue
        own = wanted.chosen.get(name)
        best = next((p for p in here if p.notes.pool is not None), None) or max(
            here, key=lambda p: p.measure.snr or 0
        )
        chosen[name] = own if own is not None and own in {p.id for p in here} else best.id
    return chosen


def _last_cleaned(wanted: PreparationState, origins: dict[str, Prepared], name: str) -> str | None:
    for step in reversed(STEPS):
        key = cleaned(name, step.id).key
        if name in wanted.cleaning.get(step.id, {}) and key in origins:
            return key
    return None


def _eligible(
    wanted: PreparationState,
    origins: dict[str, Prepared],
    name: str,
    grid: tuple[int, int] | None,
) -> list[Prepared]:
    """The origins that a channel may be taken from: preliminary ones where there is no other, or
    where one is chosen.
    """
    fits = [
        p
        for p in origins.values()
        if p.channel == name and p.shape == grid and p.origin.kind != "cleaned"
    ]
    own = wanted.chosen.get(name)
    return [p for p in fits if not p.preliminary or p.id == own] or fits

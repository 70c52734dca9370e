"""The same picture without one contributor or one stack."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from ...core.model.channel import channel_order
from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.model.settings import BlendSettings
from ..blend.controller import BlendSnapshot, make_recipe
from ..blend.evidence import Evidence
from ..channels.build import Channels, prepare
from ..layers.build import make_layers
from ..layers.layers import wanted_layers
from ..project.state import PreparationState, SourceState
from ..project.store import Store
from ..viewing.renderer import ChannelRenderer


@dataclass(frozen=True)
class Part:
    """What can be left out: its name, the stacks that it is, and the channels it has a share in."""

    name: str
    stacks: tuple[str, ...]
    channels: tuple[str, ...]


def parts_of(channels: Channels, wanted: PreparationState) -> list[Part]:
    """Stations, then single stacks, that pools can do without."""
    real = [s for s in wanted.sources if not s.preliminary]
    stations: dict[str, list[SourceState]] = {}
    for stack in real:
        stations.setdefault(stack.station, []).append(stack)
    groups = [(n, found) for n, found in stations.items() if n and len(stations) > 1]
    groups += [(s.label, [s]) for s in real if len(stations.get(s.station, ())) > 1]
    found = []
    for name, stacks in groups:
        ids = tuple(s.id for s in stacks)
        touched = _touched(channels, ids)
        if touched and all(_rest(channels, n, ids) for n in touched):
            found.append(Part(name, ids, tuple(touched)))
    return found


def part_named(channels: Channels, wanted: PreparationState, name: str) -> Part:
    """The part of a name. Raises InputError."""
    found = parts_of(channels, wanted)
    for part in found:
        if part.name == name:
            return part
    raise InputError(
        f"The picture cannot do without {name}",
        why=f"it can do without {', '.join(p.name for p in found) or 'nothing'}",
        do="Choose one of these",
    )


def without(channels: Channels, wanted: PreparationState, part: Part) -> PreparationState:
    """The preparation with a part left out of its pools."""
    out = {
        p.id
        for n in channels.names
        for p in channels.alone(n)
        if p.origin.stacks and set(p.origin.stacks) <= set(part.stacks)
    }
    chosen = {n: o for n, o in wanted.chosen.items() if o not in out}
    for name in part.channels:  # where one is left there is no pool: it is the channel
        rest = _rest(channels, name, part.stacks)
        if len(rest) == 1:
            chosen[name] = rest[0]
    left_out = tuple(sorted({*wanted.left_out, *out}))
    return wanted.replaced(left_out=left_out, chosen=chosen)


def picture_on(
    store: Store,
    wanted: PreparationState,
    settings: BlendSettings,
    now: BlendSnapshot,
    progress: Progress = SILENT,
) -> BlendSnapshot:
    """The picture of settings on channels that are prepared otherwise than ``now``. Raises
    InputError, Cancelled.
    """
    channels = prepare(store, wanted, progress.part(0, 0.4))
    layers = make_layers(
        store,
        wanted_layers(channels, settings, settings.used(), wanted.layers),
        channels,
        progress=progress.part(0.4, 0.95),
    )
    recipe = make_recipe(settings, Evidence().figures(settings, channels, layers))
    renderer = ChannelRenderer(channels, layers)
    return replace(now, channels=channels, layers=layers, renderer=renderer, recipe=recipe)


def _touched(channels: Channels, stacks: Sequence[str]) -> list[str]:
    """Channels that have an origin in these stacks alone."""
    return sorted(
        (
            n
            for n in channels.names
            if any(
                p.origin.stacks and set(p.origin.stacks) <= set(stacks)
                for p in channels.alone(n)
                if not p.preliminary
            )
        ),
        key=channel_order,
    )


def _rest(channels: Channels, name: str, stacks: Sequence[str]) -> list[str]:
    """Origins of a channel that are not of these stacks alone."""
    return [
        p.id
        for p in channels.alone(name)
        if not p.preliminary and not set(p.origin.stacks) <= set(stacks)
    ]

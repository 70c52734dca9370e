"""What a person does to stacks and channels, as commands: functions of the saved state."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TypeVar

from ...core.model.words import listed
from ..project.document import Command
from ..project.state import PLANE, Crop, Disc, ProjectState, SourceState
from .cleaning import STEPS, Setting
from .prepared import Prepared

T = TypeVar("T")


def _preparing(label: str, **changes: object) -> Command:
    """A command that sets fields of the preparation."""
    return Command(label, lambda state: state.prepared_with(**changes))


# --- stacks ---


def open_sources(found: Sequence[SourceState]) -> Command:
    """Add stacks that were read. The first of a new project gives it the name of its object."""
    words = found[0].label if len(found) == 1 else f"{len(found)} stacks"

    def change(state: ProjectState) -> ProjectState:
        named = state
        if not state.sources and state.name == "New project" and found[0].object_name:
            named = state.model_copy(update={"name": found[0].object_name})
        return with_sources(named, found)

    return Command(f"open {words}", change)


def open_preliminary(found: Sequence[SourceState]) -> Command:
    """Add preliminary stacks, in place of those that the same files held before."""
    words = f"preliminary stack of {', '.join('+'.join(s.lines) for s in found)}"
    paths = {s.path for s in found}

    def change(state: ProjectState) -> ProjectState:
        rest = tuple(s for s in state.sources if not (s.preliminary and s.path in paths))
        return with_sources(state.prepared_with(sources=rest), found)

    return Command(words, change)


def with_sources(state: ProjectState, found: Sequence[SourceState]) -> ProjectState:
    """A copy with stacks added; those whose data are there already are not."""
    known = {s.hash for s in state.sources}
    new = tuple(s for s in found if s.hash not in known)
    return state.prepared_with(sources=(*state.sources, *new))


def remove_source(source: SourceState) -> Command:
    """Take a stack out of the project; the file stays."""
    return Command(
        f"remove {source.label}",
        lambda state: state.prepared_with(
            sources=tuple(s for s in state.sources if s.id != source.id)
        ),
    )


def set_lines(source_id: str, lines: tuple[str, ...]) -> Command:
    """Say what a stack holds, where its header was wrong or silent; others behind a filter of the
    same name, of which nobody has said it yet, hold the same.
    """

    def change(state: ProjectState) -> ProjectState:
        made = state.preparation
        named = {(s.filter, s.colour) for s in made.sources if s.id == source_id and s.filter}
        for source in made.sources:
            alike = not source.sure and (source.filter, source.colour) in named
            if source.id == source_id or alike:
                made = made.changed_source(source.id, lines=lines, sure=True)
        return state.model_copy(update={"preparation": made})

    return Command(f"name the stack {'+'.join(lines)}", change)


def set_pattern(source_id: str, bayer: str) -> Command:
    """Say which pattern a mosaic has."""
    return _change_source(f"pattern {bayer}", source_id, bayer=bayer)


def _change_source(label: str, source_id: str, **changes: object) -> Command:
    def change(state: ProjectState) -> ProjectState:
        made = state.preparation.changed_source(source_id, **changes)
        return state.model_copy(update={"preparation": made})

    return Command(label, change)


def set_response(response: str, eye: str = "") -> Command:
    """Use another sensor response, by its name or file, for one camera or for all that have none
    of their own.
    """
    if not eye:
        return _preparing("change the sensor response", response=response)

    def change(state: ProjectState) -> ProjectState:
        own = {**state.preparation.responses, eye: response}
        return state.prepared_with(responses=own)

    return Command(f"change the response of {eye}", change)


def set_reference(source: SourceState | None) -> Command:
    """Take another stack's grid; None for the suggested one."""
    words = f"align to {source.label}" if source else "align to the suggested stack"
    return _preparing(words, reference=source.id if source else "")


def set_crop(crop: Crop) -> Command:
    """The common part, the reference's frame, or all that was seen."""
    return _preparing(f"show the {crop} field", crop=crop)


# --- channels ---


def choose_origin(prepared: Prepared) -> Command:
    """Take a channel from one origin."""
    return _put(
        f"take {prepared.channel} from {prepared.label}", "chosen", prepared.channel, prepared.id
    )


def leave_out(origin: str, label: str, out: bool) -> Command:
    """Leave one origin out of its channel's pool, or take it in again."""

    def change(state: ProjectState) -> ProjectState:
        rest = tuple(o for o in state.preparation.left_out if o != origin)
        return state.prepared_with(left_out=(*rest, origin) if out else rest)

    return Command(f"leave {label} out" if out else f"pool {label} again", change)


def set_gradient(channel: str, degree: int | None) -> Command:
    """Take a gradient off a channel: a degree, PLANE for a plane, None for the degree that the sky
    supports.
    """
    what = "only a plane" if degree == PLANE else f"degree {'chosen' if degree is None else degree}"
    return _put(f"gradient of {channel}, {what}", "gradient", channel, degree)


def exclude_from_sky(channel: str, discs: Sequence[Disc]) -> Command:
    """Draw discs on a channel that must not count as sky, beside those that are there."""

    def change(state: ProjectState) -> ProjectState:
        drawn = state.preparation.not_sky
        return state.prepared_with(not_sky={**drawn, channel: (*drawn.get(channel, ()), *discs)})

    return Command(f"draw on the sky of {channel}", change)


def clear_drawn_sky(channel: str) -> Command:
    """Let everything count again that looks like sky."""
    return _put(f"clear what was drawn on {channel}", "not_sky", channel, None)


def set_cleaning(step_id: str, channel: str, setting: Setting | None) -> Command:
    """Switch a cleaning step on with a setting, or off with None."""
    title = next(s.title for s in STEPS if s.id == step_id).lower()
    words = f"{title} of {channel} on" if setting is not None else f"{title} of {channel} off"
    if step_id == "continuum":
        words = (
            f"take the continuum off {channel}"
            if setting is not None
            else f"leave the continuum in {channel}"
        )

    def change(state: ProjectState) -> ProjectState:
        cleaning = state.preparation.cleaning
        own = _with(cleaning.get(step_id, {}), channel, setting)
        return state.prepared_with(cleaning=_with(cleaning, step_id, own or None))

    return Command(words, change)


def set_split(channels: Sequence[str], on: bool) -> Command:
    """Split the stars off channels, or leave them in."""
    words = "split the stars off" if on else "leave the stars in"

    def change(state: ProjectState) -> ProjectState:
        rest = tuple(n for n in state.preparation.split if n not in channels)
        return state.prepared_with(split=(*rest, *channels) if on else rest)

    return Command(f"{words} {listed(list(channels))}", change)


def set_layer(channel: str, file: Path | None) -> Command:
    """Take the stars of a channel from a layer made elsewhere; None: split them here."""

    def change(state: ProjectState) -> ProjectState:
        wanted = state.preparation
        rest = tuple(n for n in wanted.split if n != channel)
        layers = _with(wanted.layers, channel, str(file) if file is not None else None)
        return state.prepared_with(layers=layers, split=(*rest, channel))

    return Command(f"layer of the stars of {channel}", change)


def _put(label: str, field: str, channel: str, value: object | None) -> Command:
    """A command that sets one channel's entry of a field of the preparation; None takes it out."""

    def change(state: ProjectState) -> ProjectState:
        old: Mapping[str, object] = getattr(state.preparation, field)
        return state.prepared_with(**{field: _with(old, channel, value)})

    return Command(label, change)


def _with(old: Mapping[str, T], key: str, value: T | None) -> dict[str, T]:
    """A copy with one key changed, or without it where the value is None."""
    rest = {k: v for k, v in old.items() if k != key}
    return rest if value is None else {**rest, key: value}

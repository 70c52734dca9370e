"""What a person does to stacks and channels: each one undoable, each told to the preparation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TypeVar

from psygnal import SignalInstance

from ...core.advise.base import listed
from ...core.extract import load_response
from ...core.extract.leaks import Leaks
from ...core.model.errors import InputError
from ...core.model.progress import Progress
from ..project.document import Document
from ..project.responses import find_response, keep_response, take_response
from ..project.state import PLANE, ProjectState, Spot
from ..work.jobs import Jobs
from .build import Channels
from .layers import write_layers

T = TypeVar("T")


class ChannelGestures:
    """A part of the session; it holds nothing of its own."""

    document: Document
    jobs: Jobs
    channels: Channels
    cache_limit: int
    cached: SignalInstance
    trouble: SignalInstance
    published: SignalInstance

    @property
    def state(self) -> ProjectState:
        raise NotImplementedError

    def _do(self, label: str, state: ProjectState, merge: str | None = None) -> None:
        raise NotImplementedError

    def prepare_anew(self) -> None:
        raise NotImplementedError

    def remove_source(self, source_id: str) -> None:
        """Take a stack out of the project; the file stays."""
        source = self.state.source(source_id)
        rest = tuple(s for s in self.state.sources if s.id != source_id)
        self._do(f"remove {source.label}", self.state.model_copy(update={"sources": rest}))

    def set_lines(self, source_id: str, lines: tuple[str, ...]) -> None:
        """Say what a stack holds, where its header was wrong or silent."""
        changed = tuple(
            s.model_copy(update={"lines": lines, "sure": True}) if s.id == source_id else s
            for s in self.state.sources
        )
        self._do(
            f"name the stack {'+'.join(lines)}", self.state.model_copy(update={"sources": changed})
        )

    def set_pattern(self, source_id: str, bayer: str) -> None:
        """Say which pattern a mosaic has."""
        changed = tuple(
            s.model_copy(update={"bayer": bayer}) if s.id == source_id else s
            for s in self.state.sources
        )
        self._do(f"pattern {bayer}", self.state.model_copy(update={"sources": changed}))

    def take_response(self, path: Path) -> None:
        """Keep a response table with the project and use it; one that is not usable is told and
        changes nothing.
        """
        try:
            self.set_response(take_response(self.document.store, path))
        except InputError as error:
            self.trouble.emit([error])

    def set_response(self, response: str) -> None:
        self._do("change the sensor response", self.state.model_copy(update={"response": response}))

    def set_reference(self, source_id: str) -> None:
        """Take another stack's grid; empty for the suggested one."""
        words = (
            f"align to {self.state.source(source_id).label}"
            if source_id
            else "align to the suggested stack"
        )
        self._do(words, self.state.model_copy(update={"reference": source_id}))

    def set_crop(self, crop: str) -> None:
        """The common part, the reference's frame, or all that was seen."""
        self._do(
            f"show the {crop} field",
            ProjectState.model_validate({**self.state.model_dump(), "crop": crop}),
        )

    def leave_out(self, origin: str, out: bool) -> None:
        """Leave one origin out of its channel's pool, or take it in again."""
        rest = tuple(o for o in self.state.left_out if o != origin)
        label = self.channels.origins[origin].label if origin in self.channels.origins else origin
        self._do(
            f"leave {label} out" if out else f"pool {label} again",
            self.state.model_copy(update={"left_out": (*rest, origin) if out else rest}),
        )

    def set_gradient(self, channel: str, degree: int | None) -> None:
        """Take a gradient off a channel: a degree, PLANE for a plane, None for the degree that the
        sky supports.
        """
        words = (
            f"gradient of {channel}, "
            f"{'only a plane' if degree == PLANE else 'degree ' + _word(degree)}"
        )
        self._do(
            words,
            self.state.model_copy(update={"gradient": _with(self.state.gradient, channel, degree)}),
        )

    def spare(self, channel: str, spots: Sequence[Spot] | None) -> None:
        """Draw discs on a channel that must not count as sky; None takes all of them away."""
        now = None if spots is None else (*self.state.spared.get(channel, ()), *spots)
        words = f"draw on the sky of {channel}" if now else f"clear what was drawn on {channel}"
        self._do(
            words, self.state.model_copy(update={"spared": _with(self.state.spared, channel, now)})
        )

    def set_continuum(self, line: str, broad: str | None) -> None:
        """Take a broadband channel's share off a line, or leave it in."""
        words = f"take the continuum off {line}" if broad else f"leave the continuum in {line}"
        self._do(
            words,
            self.state.model_copy(update={"continuum": _with(self.state.continuum, line, broad)}),
        )

    def set_split(self, channels: Sequence[str], on: bool) -> None:
        """Split the stars off channels, or leave them in."""
        rest = tuple(n for n in self.state.split if n not in channels)
        words = "split the stars off" if on else "leave the stars in"
        split = (*rest, *channels) if on else rest
        self._do(
            f"{words} {listed(list(channels))}", self.state.model_copy(update={"split": split})
        )

    def set_layer(self, channel: str, file: str | None) -> None:
        """Take the stars of a channel from a layer made elsewhere; None: split them here."""
        rest = tuple(n for n in self.state.split if n != channel)
        self._do(
            f"layer of the stars of {channel}",
            self.state.model_copy(
                update={
                    "layers": _with(self.state.layers, channel, file),
                    "split": (*rest, channel),
                }
            ),
        )

    def use_measured_leaks(self, channel: str) -> None:
        """Take the leaks that the data tell in place of the table's, as a response that is kept
        with the project.
        """
        measured = (
            next((m for p in self.channels.of(channel) if (m := p.notes.get("measured"))), None)
            or {}
        )
        values = {n: v for stack in measured.values() for n, v in stack["values"].items()}
        if not values:
            return
        store = self.document.store
        try:
            base = load_response(find_response(store, self.state.response))
            self.set_response(keep_response(store, Leaks(values, {}).applied(base)))
        except InputError as error:
            self.trouble.emit([error])

    def save_layers(self, channel: str, folder: Path) -> None:
        """Write a channel without its stars, and the stars alone, as FITS into a folder, in
        a job.
        """
        whole, calm = self.channels.channel(channel), self.channels.starless.get(channel)
        if calm is not None:
            coloured = self.channels.coloured if channel in self.channels.coloured else {}
            self.jobs.start(
                f"writing the layers of {channel}",
                lambda p: self.published.emit(
                    write_layers(whole, calm, folder, self.state, coloured, p)
                ),
            )

    def bound_cache(self, bytes_: int) -> None:
        """Keep the cache below a size from now on; what is in use stays."""
        self.cache_limit = bytes_
        self.jobs.start("tidying the cache", lambda _progress: self.keep_cache_small())

    def keep_cache_small(self) -> None:
        """Delete what was not used for longest where the cache is over its limit, and tell its
        size.
        """
        found = self.channels
        used = {
            p.key
            for p in (*found.origins.values(), *found.starless.values(), *found.coloured.values())
        }
        self.cached.emit(self.document.store.bound_cache(self.cache_limit, used))

    def compute_again(self) -> None:
        """Delete the cache and prepare everything anew."""

        def work(_progress: Progress) -> None:
            self.document.store.clear_cache()
            self.prepare_anew()

        self.jobs.start("deleting the cache", work)


def _with(old: Mapping[str, T], key: str, value: T | None) -> dict[str, T]:
    """A copy with one key changed, or without it where the value is None."""
    rest = {k: v for k, v in old.items() if k != key}
    return rest if value is None else {**rest, key: value}


def _word(degree: int | None) -> str:
    return "chosen" if degree is None else str(degree)

"""Versions rendered of the channels that they stand on: those of today, or those that were kept."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from ...core.model.errors import InputError, UnsupportedData
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe
from ...core.model.settings import Finish
from ...core.numerics.sampling import View
from ..channels.build import Channels
from ..channels.cache import has_prepared, load_prepared
from ..layers.build import make_layers
from ..layers.layers import wanted_layers
from ..project.state import VersionState
from ..project.store import Store
from ..viewing.renderer import RGB8, ChannelRenderer
from .compare import changed_channels
from .files import VersionFiles


@dataclass(frozen=True)
class VersionRequest:
    """A view of a version, for one of the two places of a comparison. ``finish``: how the picture
    is presented, where it can be rendered; None: as its own recipe has it.
    """

    id: int
    place: int
    name: str
    view: View
    finish: Finish | None = None


@dataclass(frozen=True)
class VersionAnswer:
    """A view of a version (H, W, 3); ``as_kept``: of the picture that was kept, as it cannot be
    rendered of what is there now.
    """

    pixels: RGB8
    as_kept: bool


def keys_of(versions: Iterable[VersionState]) -> set[str]:
    """Names in the cache of all channels that versions stand on."""
    return {c.key for v in versions for c in v.channels.values()}


def channels_of(store: Store, version: VersionState, now: Channels) -> Channels | None:
    """The channels that a version stands on; None where some are no longer there."""
    if not changed_channels(version, now):
        return now
    found = {n: load_prepared(store.cache, c.key) for n, c in version.channels.items()}
    there = {n: p for n, p in found.items() if p is not None}
    if len(there) < len(found) or len({p.shape for p in there.values()}) != 1:
        return None
    return Channels({p.id: p for p in there.values()}, {n: p.id for n, p in there.items()})


def is_held(store: Store, version: VersionState) -> bool:
    """Whether all channels of a version are in the cache."""
    return all(has_prepared(store.cache, c.key) for c in version.channels.values())


class Renderers:
    """What renders versions, by the name of their recipes: made when it is asked for, a few held
    at once.
    """

    def __init__(self, store: Store, files: VersionFiles) -> None:
        self._store, self._files = store, files
        self._made: dict[str, ChannelRenderer] = {}

    def keep_only(self, versions: Sequence[VersionState]) -> None:
        """Let go of all others."""
        wanted = {v.recipe for v in versions}
        self._made = {n: r for n, r in self._made.items() if n in wanted}

    def of(self, version: VersionState) -> ChannelRenderer | None:
        """What was made for a version, as long as it stands on the same channels."""
        found = self._made.get(version.recipe)
        if found is None or changed_channels(version, found.channels):
            return None
        return found

    def make(
        self, version: VersionState, now: Channels, layers: dict[str, str], progress: Progress
    ) -> ChannelRenderer | None:
        """Make what renders a version, its stars and starless layers with it; None where its
        channels are gone. Raises UnreadableFile, InputError, Cancelled.
        """
        found = self.of(version)
        if found is not None:
            return found
        channels = channels_of(self._store, version, now)
        if channels is None or not channels.origins:
            return None
        settings = self._files.recipe(version.recipe).settings
        wanted = wanted_layers(channels, settings, settings.used(), layers)
        made = make_layers(self._store, wanted, channels, progress=progress)
        self._made = {**self._made, version.recipe: ChannelRenderer(channels, made)}
        return self._made[version.recipe]


def rendered_by(
    renderers: Renderers,
    files: VersionFiles,
    version: VersionState,
    now: Channels,
    layers: dict[str, str],
    progress: Progress = SILENT,
) -> tuple[ChannelRenderer, Recipe]:
    """What renders a version in full, and its recipe. Raises InputError where it can only be shown
    as it was kept.
    """
    if version.laid is not None:
        raise InputError(
            f"{version.name} is a picture from elsewhere",
            why="it has no recipe",
            do="Choose a version of this project",
        )
    renderer = renderers.make(version, now, layers, progress)
    if renderer is None:
        gone = changed_channels(version, now)
        raise InputError(
            f"{version.name} cannot be rendered in full",
            why=f"{', '.join(gone)} changed since, and what it stood on is no longer there",
            do="Keep it once more with the channels of today",
        )
    return renderer, files.recipe(version.recipe)


def view_of(
    renderer: ChannelRenderer | None,
    files: VersionFiles,
    version: VersionState,
    request: VersionRequest,
) -> VersionAnswer:
    """The picture that answers a request: rendered where its channels and layers are as they were,
    else from the picture that was kept. Raises UnreadableFile, InputError.
    """
    if version.laid is not None:
        pixels = files.seen_on_grid(version.recipe, version.size, request.view, request.finish)
        return VersionAnswer(pixels, False)
    if renderer is not None and not changed_channels(version, renderer.channels):
        recipe = files.recipe(version.recipe)
        if request.finish is not None:
            settings = recipe.settings.model_copy(update={"finish": request.finish})
            recipe = recipe.model_copy(update={"settings": settings})
        with contextlib.suppress(UnsupportedData):  # its star layers are not there now
            return VersionAnswer(renderer.blend(recipe, request.view), False)
    return VersionAnswer(files.seen(version.recipe, version.size, request.view), True)

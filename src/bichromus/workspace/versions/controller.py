"""The versions of the open project: kept, brought in, shown, continued."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from psygnal import Signal

from ...core.model.errors import BichromusError
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe, load_recipe
from ..blend.controller import BlendController, BlendSnapshot
from ..channels.build import Channels
from ..project.cache import size_of
from ..project.context import ProjectContext
from ..project.state import PreparationState, ProjectState, VersionState
from ..viewing.renderer import ChannelRenderer
from . import commands
from .compare import Comparison, changed_channels, compare
from .elsewhere import bring
from .files import VersionFiles
from .making import made_version, unfit
from .rendering import Renderers, VersionRequest, is_held, keys_of, rendered_by, view_of
from .variation import part_named, picture_on, without

FOLDER = "versions"


class VersionsController:
    """``kept`` tells the name of a new version, ``paired`` two that are to be looked at beside each
    other, ``wall`` carries a picture's name and the picture made small, ``rendered`` the answer to
    a request; ``ready`` says that versions can be rendered which were shown as kept so far.
    """

    kept = Signal(str)
    paired = Signal(str, str)
    wall = Signal(str, object)
    rendered = Signal(VersionRequest, object)
    ready = Signal()

    def __init__(self, context: ProjectContext, blend: BlendController) -> None:
        self._context, self._blend = context, blend
        self.files = VersionFiles(context.document.folder / FOLDER)
        self._renderers = Renderers(context.document.store, self.files)
        self._keeping = 0

    @property
    def state(self) -> ProjectState:
        """What is saved."""
        return self._context.document.saved

    @property
    def keys(self) -> set[str]:
        """Names in the cache of what versions stand on."""
        return keys_of(self.state.versions)

    @property
    def kept_bytes(self) -> int:
        """Bytes in the cache that only versions need."""
        only = self.keys - self._blend.snapshot.channels.keys
        return size_of(self._context.document.store.cache, only)

    # --- commands ---

    def keep(self) -> None:
        """Keep the picture as it is now."""
        self._later(lambda: self._keep(None))

    def keep_with_todays_channels(self, name: str) -> None:
        """Keep a version's recipe once more, with the channels as they are now."""
        version = self.state.version(name)
        if version is not None:
            title = f"{version.name}, channels of today"
            self._later(lambda: self._keep(self.files.recipe(version.recipe), title))

    def _later(self, action: Callable[[], object]) -> None:
        """Do something on the preview thread, each in its turn."""

        def work() -> None:
            self._context.guarded(action)

        self._keeping += 1
        self._context.previews.request(f"keep {self._keeping}", work)

    def keep_as(
        self, name: str, note: str = "", recipe: Recipe | None = None, overwrite: bool = False
    ) -> VersionState:
        """Keep the picture, or a ``recipe`` on its channels, here and now. Raises InputError where
        the name is taken or there is no picture, WriteFailed.
        """
        if not overwrite:
            commands.check_free(self.state, name)
        now = self._blend.up_to_date()
        version = self._made(now, self.state.preparation, recipe, name, note)
        self._context.document.do(commands.keep(version, overwrite))
        return version

    def _keep(self, recipe: Recipe | None, name: str = "", note: str = "") -> str:
        now = self._blend.up_to_date()
        return self._hang(self._made(now, self.state.preparation, recipe, name, note))

    def _made(
        self,
        now: BlendSnapshot,
        wanted: PreparationState,
        recipe: Recipe | None,
        name: str,
        note: str = "",
    ) -> VersionState:
        at = self._context.now()
        return made_version(now, wanted, self.files, at, recipe, name, note)

    def _hang(self, version: VersionState) -> str:
        """Keep a version under a name that is free; that name."""
        if not self._context.do(commands.keep(version, named=False)):
            return ""
        name = self.state.versions[-1].name
        self.kept.emit(name)
        return name

    def rename(self, name: str, to: str) -> None:
        """Give a version another name."""
        self._context.do(commands.rename(name, to))

    def set_note(self, name: str, note: str) -> None:
        """Write a note on a version."""
        self._context.do(commands.set_note(name, note))

    def toggle_favourite(self, name: str) -> None:
        """Mark a version, or no longer."""
        version = self.state.version(name)
        if version is not None:
            self._context.do(commands.set_favourite(name, not version.favourite))

    def delete(self, name: str) -> None:
        """Take a version off the wall."""
        self._context.do(commands.delete(name))

    def continue_with(self, name: str) -> None:
        """Make the recipe of a version the current one."""
        version = self.state.version(name)
        if version is not None and version.laid is None:
            self._context.guarded(
                lambda: self._context.do(
                    commands.continue_with(name, self.files.recipe(version.recipe))
                )
            )

    # --- from elsewhere ---

    def bring(self, paths: Sequence[Path]) -> None:
        """Hang pictures and recipes from elsewhere, in a job; what cannot be used is told, the rest
        is kept.
        """

        def work(progress: Progress) -> None:
            faults: list[BichromusError] = []
            for number, path in enumerate(paths):
                part = progress.part(number / len(paths), (number + 1) / len(paths))
                try:
                    if is_recipe(path):
                        self._bring_recipe(path)
                    else:
                        self._hang(self.brought(path, part))
                except BichromusError as error:
                    faults.append(error)
            if faults:
                self._context.report(faults)

        self._context.jobs.submit("bringing pictures in", work)

    def brought(self, path: Path, progress: Progress = SILENT) -> VersionState:
        """A picture from elsewhere as it lies on the grid, not kept yet. Raises InputError."""
        channels = self._blend.up_to_date().channels
        return bring(path, channels, self.files, self._context.now(), progress)

    def take(self, version: VersionState, overwrite: bool = False) -> None:
        """Keep a version that was made here and now. Raises InputError where its name is taken."""
        self._context.document.do(commands.keep(version, overwrite))

    def _bring_recipe(self, path: Path) -> None:
        wanted = load_recipe(path)
        name = self._keep(wanted, path.stem)
        version = self.state.version(name)
        if version is not None:
            told = unfit(wanted, self.files.recipe(version.recipe))
            if told:
                self._context.message(f"{name}: {'; '.join(told)}.")

    # --- with and without ---

    def keep_without(self, part: str) -> None:
        """Keep the picture as it is, and once more without a contributor or a stack, in a job; both
        are then looked at.
        """
        state = self.state

        def work(progress: Progress) -> None:
            now = self._blend.up_to_date()
            whole = self._kept_already(now) or self._keep(None)
            found = part_named(now.channels, state.preparation, part)
            wanted = without(now.channels, state.preparation, found)
            store = self._context.document.store
            made = picture_on(store, wanted, state.blend, now, progress)
            title = f"{commands.default_name(made.recipe)}, without {part}" if made.recipe else ""
            name = self._hang(self._made(made, wanted, None, title))
            if whole and name:
                self.paired.emit(whole, name)

        self._context.jobs.submit(f"the picture without {part}", work)

    def _kept_already(self, now: BlendSnapshot) -> str:
        """The version that is the picture as it is; none: empty."""
        if now.recipe is None:
            return ""
        name = self.files.name_of(now.recipe)
        return next((v.name for v in self.state.versions if v.recipe == name), "")

    # --- what is shown ---

    def compare(self, one: VersionState, two: VersionState) -> Comparison:
        """Two versions in words and figures. Raises UnreadableFile, InputError."""
        recipes = (self.files.recipe(v.recipe) if v.laid is None else None for v in (one, two))
        return compare(one, two, *recipes)

    def stale(self, version: VersionState, channels: Channels | None = None) -> list[str]:
        """Channels of a version that are others by now."""
        return changed_channels(version, channels or self._blend.snapshot.channels)

    def held(self, version: VersionState) -> bool:
        """Whether all that a version stands on is still there."""
        return is_held(self._context.document.store, version)

    def rendered_by(
        self, version: VersionState, progress: Progress = SILENT
    ) -> tuple[ChannelRenderer, Recipe]:
        """What renders a version in full, and its recipe. Raises InputError."""
        channels = self._blend.up_to_date().channels
        layers = self.state.preparation.layers
        return rendered_by(self._renderers, self.files, version, channels, layers, progress)

    def renderer_of(self, version: VersionState) -> ChannelRenderer | None:
        """What renders a version now: made for it, or that of today's channels; None while it has
        to be prepared, or where it can only be shown as it was kept.
        """
        made = self._renderers.of(version)
        now = self._blend.snapshot.renderer
        if made is None and now is not None and not self.stale(version, now.channels):
            return now
        return made

    def prepare(self, versions: Sequence[VersionState]) -> None:
        """Make what versions need beside the channels of today: their own where they stand on
        others, stars and starless layers, in a job; only these are held.
        """
        channels = self._blend.snapshot.channels
        self._renderers.keep_only(versions)
        missing = [v for v in versions if v.laid is None and self._renderers.of(v) is None]
        missing = [v for v in missing if not self.stale(v, channels) or self.held(v)]
        if not missing:
            return
        layers = self.state.preparation.layers

        def work(progress: Progress) -> None:
            for number, version in enumerate(missing):
                part = progress.part(number / len(missing), (number + 1) / len(missing))
                self._renderers.make(version, channels, layers, part)

        self._context.jobs.submit("stars of the versions", work, lambda _: self.ready.emit())

    def request_wall(self, picture: str) -> None:
        """A small picture, by ``wall``."""

        def work() -> None:
            try:
                self.wall.emit(picture, self.files.wall(picture))
            except BichromusError:
                self.wall.emit(picture, None)

        self._context.previews.request(f"wall {picture}", work)

    def request_view(self, request: VersionRequest) -> None:
        """Render a version; only the newest request of each place is answered."""

        def work() -> None:
            version = self.state.version(request.name)
            if version is not None:
                renderer = self._renderers.of(version) or self._blend.snapshot.renderer
                self.rendered.emit(request, view_of(renderer, self.files, version, request))

        self._context.previews.request(f"version {request.place}", work)


def is_recipe(path: Path) -> bool:
    """Whether a file is taken for a recipe, by its ending."""
    return path.suffix.lower() == ".json"

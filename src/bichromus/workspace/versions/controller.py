"""The versions of the open project: kept, shown, continued."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from psygnal import Signal

from ...core.blend import predict_noise
from ...core.model.channel import channel_order
from ...core.model.errors import BichromusError, InputError, UnsupportedData
from ...core.model.progress import Progress
from ...core.model.recipe import Recipe
from ...core.model.settings import Finish
from ...core.numerics.sampling import View, whole_view
from ..blend.controller import BlendController, BlendSnapshot, make_recipe
from ..blend.evidence import Evidence
from ..layers.build import make_layers
from ..layers.layers import wanted_layers
from ..project.context import ProjectContext
from ..project.state import ProjectState, VersionChannel, VersionState
from ..viewing.renderer import RGB8, ChannelRenderer
from . import commands
from .compare import Comparison, changed_channels, compare, full_share
from .files import LONGEST_PX, VersionFiles

FOLDER = "versions"


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


class VersionsController:
    """``kept`` tells the name of a new version, ``wall`` carries a recipe's name and its small
    picture, ``rendered`` the answer to a request; ``ready`` says that versions can be rendered
    which were shown as kept so far.
    """

    kept = Signal(str)
    wall = Signal(str, object)
    rendered = Signal(VersionRequest, object)
    ready = Signal()

    def __init__(self, context: ProjectContext, blend: BlendController) -> None:
        self._context, self._blend = context, blend
        self.files = VersionFiles(context.document.folder / FOLDER)
        self._keeping = 0
        self._renderers: dict[str, ChannelRenderer] = {}

    @property
    def state(self) -> ProjectState:
        """What is saved."""
        return self._context.document.saved

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

    def _later(self, action: Callable[[], None]) -> None:
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
        version = made_version(now, self.files, self._context.now(), recipe, name, note)
        self._context.document.do(commands.keep(version, overwrite))
        return version

    def _keep(self, recipe: Recipe | None, name: str = "") -> None:
        now = self._blend.up_to_date()
        version = made_version(now, self.files, self._context.now(), recipe, name)
        if self._context.do(commands.keep(version, named=False)):
            self.kept.emit(self.state.versions[-1].name)

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
        if version is not None:
            self._context.guarded(
                lambda: self._context.do(
                    commands.continue_with(name, self.files.recipe(version.recipe))
                )
            )

    # --- what is shown ---

    def compare(self, one: VersionState, two: VersionState) -> Comparison:
        """Two versions in words and figures. Raises UnreadableFile, InputError."""
        return compare(one, two, *(self.files.recipe(v.recipe) for v in (one, two)))

    def prepare(self, versions: Sequence[VersionState]) -> None:
        """Make what versions need beside the channels, stars and starless layers, in a job; only
        these are held.
        """
        channels = self._blend.snapshot.channels
        wanted = {
            v.recipe: self._renderers[v.recipe]
            for v in versions
            if v.recipe in self._renderers and self._renderers[v.recipe].channels is channels
        }
        self._renderers = wanted
        missing = [
            v for v in versions if v.recipe not in wanted and not changed_channels(v, channels)
        ]
        if not missing:
            return

        def work(progress: Progress) -> dict[str, ChannelRenderer]:
            document, made = self._context.document, {}
            for number, version in enumerate(missing):
                part = progress.part(number / len(missing), (number + 1) / len(missing))
                settings = self.files.recipe(version.recipe).settings
                elsewhere = document.saved.preparation.layers
                layers = wanted_layers(channels, settings, settings.used(), elsewhere)
                whole = make_layers(document.store, layers, channels, progress=part)
                made[version.recipe] = ChannelRenderer(channels, whole)
            return made

        def finish(made: dict[str, ChannelRenderer]) -> None:
            self._renderers = {**self._renderers, **made}
            self.ready.emit()

        self._context.jobs.submit("stars of the versions", work, finish)

    def request_wall(self, recipe: str) -> None:
        """A small picture, by ``wall``."""

        def work() -> None:
            try:
                self.wall.emit(recipe, self.files.wall(recipe))
            except BichromusError:
                self.wall.emit(recipe, None)

        self._context.previews.request(f"wall {recipe}", work)

    def request_view(self, request: VersionRequest) -> None:
        """Render a version; only the newest request of each place is answered."""

        def work() -> None:
            version = self.state.version(request.name)
            if version is not None:
                now = self._blend.snapshot
                own = self._renderers.get(version.recipe)
                renderer = own if own and own.channels is now.channels else now.renderer
                answer = view_of(renderer, self.files, version, request)
                self.rendered.emit(request, answer)

        self._context.previews.request(f"version {request.place}", work)


def made_version(
    now: BlendSnapshot,
    files: VersionFiles,
    made: dt.datetime,
    recipe: Recipe | None = None,
    name: str = "",
    note: str = "",
) -> VersionState:
    """A version of what is there, or of another recipe's settings on these channels; its files are
    written. Raises InputError where there is no picture, WriteFailed.
    """
    if recipe is not None:
        figures = Evidence().figures(recipe.settings, now.channels, now.layers)
        recipe = make_recipe(recipe.settings, figures)
    else:
        recipe = now.recipe
    if now.renderer is None or recipe is None:
        raise InputError("There is no picture to keep yet", do="Open stacks and blend them first")
    height, width = now.renderer.shape_of(recipe)
    longest = min(LONGEST_PX, max(height, width))
    picture = now.renderer.blend(recipe, whole_view((height, width), longest))
    used = {n: now.channels.channel(n) for n in recipe.used() if n in now.channels.names}
    return VersionState(
        name=name or commands.default_name(recipe),
        made=made.replace(microsecond=0).isoformat(),
        recipe=files.put(recipe, picture),
        mapping=recipe.settings.mapping,
        size=(width, height),
        note=note,
        noise=predict_noise(recipe).lightness,
        full=full_share(picture),
        channels={
            n: VersionChannel(
                key=used[n].key,
                hours=used[n].hours,
                snr=used[n].measure.snr,
                fwhm_px=used[n].measure.stars.fwhm_px,
            )
            for n in sorted(used, key=channel_order)
        },
    )


def view_of(
    renderer: ChannelRenderer | None,
    files: VersionFiles,
    version: VersionState,
    request: VersionRequest,
) -> VersionAnswer:
    """The picture that answers a request: rendered where its channels and layers are as they were,
    else from the picture that was kept. Raises UnreadableFile, InputError.
    """
    if renderer is not None and not changed_channels(version, renderer.channels):
        recipe = files.recipe(version.recipe)
        if request.finish is not None:
            settings = recipe.settings.model_copy(update={"finish": request.finish})
            recipe = recipe.model_copy(update={"settings": settings})
        with contextlib.suppress(UnsupportedData):  # its star layers are not there now
            return VersionAnswer(renderer.blend(recipe, request.view), False)
    return VersionAnswer(files.seen(version.recipe, version.size, request.view), True)

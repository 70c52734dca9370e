"""Publishing the picture of the open project, or one of its versions."""

from __future__ import annotations

import datetime as dt
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from psygnal import Signal

from ...core.blend.render import Renderer
from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe
from ...core.numerics.sampling import View
from ...core.publish.caption import Caption
from ..blend.controller import BlendController
from ..channels.build import Channels
from ..channels.steps import stacks_behind
from ..library.templates import templates
from ..log.controller import LogController
from ..log.summary import Summary, hours_words, nights_words, write_summary
from ..log.template import fill
from ..project.context import ProjectContext
from ..project.document import Command
from ..project.state import ProjectState, VersionState
from ..versions.controller import VersionsController
from .files import order_of
from .preview import Sheet, sheet_of
from .record import Made, record_data, record_text
from .writing import Words, Written, check_order, write_order


@dataclass(frozen=True)
class Published:
    """What was written: the pictures, the summary with its hours by channel, and the record."""

    pictures: tuple[Written, ...]
    summary: Path
    hours: dict[str, float]
    record: Path
    paths: tuple[Path, ...]


@dataclass(frozen=True)
class Subject:
    """A picture that can be published: what renders it, its recipe, the channels it stands on."""

    renderer: Renderer
    recipe: Recipe
    channels: Channels
    version: VersionState | None = None


@dataclass(frozen=True)
class PreviewRequest:
    """A view of the picture as it will be written."""

    id: int
    view: View


class PublishController:
    """Writes pictures with their words; ``published`` carries what was written, ``laid_out`` the
    sheet that will be seen (None: none), ``previewed`` the answer to a request.
    """

    published = Signal(Published)
    laid_out = Signal(object)
    previewed = Signal(PreviewRequest, object)

    def __init__(
        self,
        context: ProjectContext,
        blend: BlendController,
        versions: VersionsController,
        log: LogController,
    ) -> None:
        self._context, self._blend, self._versions, self._log = context, blend, versions, log
        self._sheet: Sheet | None = None

    def set_publish(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change how the picture is written."""
        self._context.do(
            Command(
                label,
                lambda s: s.model_copy(update={"publish": s.publish.replaced(**changes)}),
                merge,
            )
        )

    @property
    def version(self) -> VersionState | None:
        """The version that is chosen to be published; None: the picture as it is."""
        state = self._context.document.saved
        return state.version(state.publish.version) if state.publish.version else None

    def publish(self, folder: Path, overwrite: bool) -> None:
        """Write all that is chosen into a folder, in a job."""
        state = self._context.document.saved

        def work(progress: Progress) -> None:
            self.published.emit(self.publish_now(state, folder, overwrite, progress))

        self._context.jobs.submit("publishing", work)

    def publish_now(
        self, state: ProjectState, folder: Path, overwrite: bool, progress: Progress = SILENT
    ) -> Published:
        """Write all that a state asks for into a folder, here and now. Raises InputError,
        OutputRefused, WriteFailed, Cancelled.
        """
        name = state.publish.version
        version = state.version(name) if name else None
        if name and version is None:
            known = ", ".join(v.name for v in state.versions) or "none"
            raise InputError(
                "There is no version of this name",
                why=f"{name}; there are: {known}",
                do="Choose another",
            )
        order = order_of(state, folder, version, overwrite)
        stacks = [Path(s.path) for s in state.sources]
        check_order(order, stacks)  # before anything takes its time
        subject = self.subject(version, progress.part(0, 0.1))
        made = self._made(state, subject)
        sources = [*_stacks(state, subject), *stacks]
        words = self._words(state, made)
        written = write_order(
            order, subject.renderer, subject.recipe, words, sources, progress.part(0.1, 1)
        )
        hours = made.summary.hours_by_channel
        return Published(tuple(written), order.summary, hours, order.record, tuple(order.paths))

    def subject(self, version: VersionState | None, progress: Progress = SILENT) -> Subject:
        """What is published, made ready. Raises InputError where there is no picture, or a
        version's channels are gone.
        """
        if version is not None:
            renderer, recipe = self._versions.rendered_by(version, progress)
            return Subject(renderer.blender, recipe, renderer.channels, version)
        now = self._blend.up_to_date()
        if now.renderer is None or now.recipe is None:
            raise InputError(
                "There is no picture to publish yet", do="Open stacks and blend them first"
            )
        if now.channels.rough:
            raise InputError(
                "There is only a quick look yet", do="Wait until the channels are prepared"
            )
        return Subject(now.renderer.blender, now.recipe, now.channels)

    # --- what is shown ---

    def lay_out(self) -> None:
        """Find the part of the picture that will be written, on the preview thread; told by
        ``laid_out``.
        """

        def work() -> None:
            self._sheet = self._laid_out()
            self.laid_out.emit(self._sheet)

        self._context.previews.request("sheet", work)

    def _laid_out(self) -> Sheet | None:
        state, version, now = self._context.document.saved, self.version, self._blend.snapshot
        renderer, recipe = now.renderer, now.recipe
        if version is not None:
            renderer = self._versions.renderer_of(version)
            recipe = self._versions.files.recipe(version.recipe) if renderer else None
        if renderer is None or recipe is None or renderer.channels.rough:
            return None
        caption = self.caption() if state.publish.caption else None
        try:
            return sheet_of(renderer, recipe, state.publish.shape, caption)
        except InputError:
            return None  # stars of a version that are on their way: it is told when they are there

    def request_preview(self, request: PreviewRequest) -> None:
        """Render a view of the sheet; only the newest request is answered."""

        def work() -> None:
            if self._sheet is not None:
                self.previewed.emit(request, self._sheet.seen(request.view))

        self._context.previews.request("preview", work)

    # --- words ---

    def summary(self) -> Summary:
        """The acquisition summary of the picture that is chosen."""
        version, recipe = self.version, self._blend.snapshot.recipe
        if version is not None:
            return self._log.target_summary(version.channels)
        return self._log.target_summary(recipe.used() if recipe is not None else None)

    def summary_text(self, form: str = "") -> str:
        """The summary in a form, or by the template of a name. Raises InputError."""
        return summary_text(self.summary(), form or self._context.document.saved.publish.summary)

    def caption(self) -> Caption:
        """What stands under the picture."""
        state = self._context.document.saved
        return caption_of(state.publish.title or state.name, self.summary())

    def _made(self, state: ProjectState, subject: Subject) -> Made:
        summary = self._log.target_summary(subject.recipe.used())
        now: dt.datetime = self._context.now()
        return Made(state, subject.channels, subject.recipe, summary, subject.version, now)

    def _words(self, state: ProjectState, made: Made) -> Words:
        data: dict[str, Any] = record_data(made)
        return Words(
            summary_text(made.summary, state.publish.summary),
            record_text(data),
            json.dumps(data, indent=1, ensure_ascii=False) + "\n",
            caption_of(state.publish.title or state.name, made.summary),
        )


def summary_text(summary: Summary, form: str) -> str:
    """A summary in one of the forms, or by the template of a name. Raises InputError."""
    if form in ("markdown", "text", "csv", "json"):
        return write_summary(summary, form)
    found = templates()
    if form not in found:
        raise InputError(
            "There is no template of this name", why=form, do="Choose another form of the summary"
        )
    return fill(found[form], summary)


def caption_of(title: str, summary: Summary) -> Caption:
    """What stands under a picture: hours by channel, by whom, and when."""
    return Caption(
        title,
        "   ".join(f"{n} {hours_words(h)}" for n, h in summary.hours_by_channel.items()),
        ", ".join(n for n, _ in summary.stations),
        nights_words(summary) if summary.nights else "",
    )


def _stacks(state: ProjectState, subject: Subject) -> list[Path]:
    """The stacks that a picture stands on, that of its first channel first: it tells where in the
    sky it lies.
    """
    channels = subject.channels
    behind = [
        s
        for n in channels.names
        if n in subject.recipe.used()
        for s in stacks_behind(channels, state.preparation, channels.channel(n))
    ]
    return [Path(s.path) for s in behind]

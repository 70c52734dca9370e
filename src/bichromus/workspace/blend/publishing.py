"""Publishing the picture of the open project."""

from __future__ import annotations

from pathlib import Path

from psygnal import Signal

from ...core.model.errors import InputError
from ...core.model.progress import Progress
from ..project.context import ProjectContext
from . import commands
from .controller import BlendController
from .publish import OutputFile, summary, used_sources, write_all


class PublishController:
    """Writes the picture as it is now; ``published`` carries the files."""

    published = Signal(list)

    def __init__(self, context: ProjectContext, blend: BlendController) -> None:
        self._context, self._blend = context, blend

    def set_publish(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change how the picture is written."""
        self._context.do(commands.set_publish(label, merge, **changes))

    def publish(self, wanted: list[OutputFile], overwrite: bool) -> None:
        """Write the picture in a job, as it is when the job begins: stars that are being split off
        meanwhile are split off then.
        """
        if self._blend.snapshot.recipe is None:
            fault = InputError(
                "There is no picture to publish yet", do="Open stacks and blend them first"
            )
            self._context.report([fault])
            return
        state = self._context.document.state

        def work(progress: Progress) -> None:
            now = self._blend.up_to_date()
            if now.renderer is None or now.recipe is None:
                return
            first = used_sources(state, now.channels, now.recipe)
            sources = [Path(s.path) for s in (*first, *state.sources)]
            made = write_all(
                now.renderer, now.recipe, wanted, state.publish, sources, overwrite, progress
            )
            self.published.emit(made)

        self._context.jobs.submit("publishing", work)

    def summary(self) -> str:
        """The acquisition summary of the picture, in Markdown."""
        now = self._blend.snapshot
        return summary(self._context.document.state, now.channels, now.recipe)

"""Publishing the picture of the open project."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from psygnal import Signal

from ...core.model.errors import InputError
from ...core.model.progress import Progress
from ..project.context import ProjectContext
from . import commands
from .controller import BlendSnapshot
from .publish import OutputFile, summary, used_sources, write_all


class PublishController:
    """Writes the picture as it is now; ``published`` carries the files."""

    published = Signal(list)

    def __init__(self, context: ProjectContext, blend: Callable[[], BlendSnapshot]) -> None:
        self._context, self._blend = context, blend

    def set_publish(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change how the picture is written."""
        self._context.do(commands.set_publish(label, merge, **changes))

    def publish(self, wanted: list[OutputFile], overwrite: bool) -> None:
        """Write the picture as it is now, in a job."""
        now, state = self._blend(), self._context.document.state
        renderer, recipe = now.renderer, now.recipe
        if renderer is None or recipe is None:
            fault = InputError(
                "There is no picture to publish yet", do="Open stacks and blend them first"
            )
            self._context.report([fault])
            return
        first = used_sources(state, now.channels, recipe)
        sources = [Path(s.path) for s in (*first, *state.sources)]

        def work(progress: Progress) -> None:
            made = write_all(renderer, recipe, wanted, state.publish, sources, overwrite, progress)
            self.published.emit(made)

        self._context.jobs.submit("publishing", work)

    def summary(self) -> str:
        """The acquisition summary of the picture, in Markdown."""
        now = self._blend()
        return summary(self._context.document.state, now.channels, now.recipe)

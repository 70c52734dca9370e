"""Layers of the open project, made in the background when the blend wants others."""

from __future__ import annotations

import threading
from typing import Final

from psygnal import Signal

from ...core.model.errors import Cancelled
from ...core.model.progress import Progress
from ...core.model.settings import BlendSettings
from ..channels.build import Channels
from ..project.context import ProjectContext
from .build import make_layers
from .layers import NONE, NOTHING, Layers, LayersWanted, wanted_layers

SPLITTING: Final = "splitting stars for the picture"


class LayersController:
    """Owns the layers. ``changed`` follows a new ``snapshot``, which grows channel by channel;
    ``made`` says that all of it is there.
    """

    changed = Signal()
    made = Signal()

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self._lock = threading.Lock()
        self._snapshot = NONE
        self._wanted: LayersWanted = NOTHING
        self.on = True  # off where nobody looks at a picture

    @property
    def snapshot(self) -> Layers:
        """The layers as far as they are made."""
        return self._snapshot

    def follow(self, channels: Channels, settings: BlendSettings, first: tuple[str, ...]) -> None:
        """Make other layers where others are wanted; ``first`` are the channels in the picture.
        What was cancelled is not begun again until something else is wanted.
        """
        if not self.on or channels.rough:
            return
        layers = self._context.document.saved.preparation.layers
        wanted = wanted_layers(channels, settings, first, layers)
        with self._lock:
            if wanted.same_as(self._wanted):
                return
            self._wanted = wanted
        store = self._context.document.store
        if wanted == NOTHING:
            self._publish(wanted, NONE)
            return

        def work(progress: Progress) -> Layers:
            if self._wanted is not wanted:
                raise Cancelled
            return make_layers(
                store, wanted, channels, lambda made: self._publish(wanted, made), progress
            )

        self._context.jobs.submit(SPLITTING, work, lambda made: self._finish(wanted, made))

    def make_again(self) -> None:
        """Forget what was wanted, so that the next ``follow`` makes the layers anew."""
        with self._lock:
            self._wanted = NOTHING

    def _finish(self, wanted: LayersWanted, made: Layers) -> None:
        self._publish(wanted, made)
        self.made.emit()

    def _publish(self, wanted: LayersWanted, made: Layers) -> None:
        with self._lock:
            if self._wanted is not wanted:
                if made.pending:
                    raise Cancelled  # what is made now is wanted no more
                return
            self._snapshot = made
        self.changed.emit()

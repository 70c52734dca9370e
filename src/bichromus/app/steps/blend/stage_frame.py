"""The one frame on the stage: a crop is drawn with it, or what shall be white."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from ...canvas.crop import CropFrame, whole_frame
from ..step import StepContext

Rectangle = tuple[int, int, int, int]


class StageFrame(QObject):
    """Lies over the whole picture, neither cut nor turned. ``changed`` tells that it was drawn
    larger or moved, came or went.
    """

    changed = pyqtSignal()

    def __init__(self, context: StepContext) -> None:
        super().__init__()
        self._context = context
        self._owner: object = None
        self._take: Callable[[Rectangle | None], None] | None = None
        context.canvas.cropped.connect(self.changed)
        context.canvas.accepted.connect(self.accept)

    @property
    def frame(self) -> CropFrame | None:
        """As it is drawn now."""
        return self._context.canvas.frame

    def is_of(self, owner: object) -> bool:
        """Whether it is on the stage for somebody."""
        return self._owner is owner and self.frame is not None

    def begin(
        self,
        owner: object,
        rectangle: Rectangle | None,
        take: Callable[[Rectangle | None], None],
    ) -> None:
        """Show it for somebody: ``take`` is given what it holds, None for the whole."""
        self.leave()
        renderer = self._context.session.blend.snapshot.renderer
        if renderer is None:
            return
        self._owner, self._take = owner, take
        canvas = self._context.canvas
        canvas.set_alone(None, None, renderer.shape, whole=True)
        canvas.set_frame(whole_frame(renderer.shape, rectangle))
        canvas.setFocus()
        self.changed.emit()

    def hold(self, ratio: float) -> None:
        """Keep its proportions (0: free; less: those of the picture)."""
        if self.frame is not None:
            if ratio < 0:
                ratio = self.frame.shape[1] / self.frame.shape[0]
            self._context.canvas.set_frame(self.frame.with_ratio(ratio))
            self.changed.emit()

    def accept(self) -> None:
        """Take what it holds, and put it away."""
        frame, take = self.frame, self._take
        if frame is None or take is None:
            return
        height, width = frame.shape
        self.leave()
        take(frame.rectangle if frame.rectangle != (0, 0, width, height) else None)

    def leave(self) -> None:
        """Put it away."""
        if self._owner is None:
            return
        self._owner = self._take = None
        self._context.canvas.set_frame(None)
        self._context.canvas.set_alone(None)
        self.changed.emit()

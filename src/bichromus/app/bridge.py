"""The one bridge from the workspace's signals, which come from any thread, to the interface thread."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from ..workspace.jobs import JobReport
from ..workspace.session import Session
from ..workspace.state import ProjectState
from ..workspace.viewport import Request


class Bridge(QObject):
    """Qt delivers a signal emitted in another thread to the receiver's own; the session knows nothing of Qt."""

    state = pyqtSignal(object)
    channels = pyqtSignal(object)
    recipe = pyqtSignal(object, object)
    advice = pyqtSignal(str, object)
    needs = pyqtSignal(list)
    rendered = pyqtSignal(object, object)
    thumbnail = pyqtSignal(str, object)
    opened = pyqtSignal(int)
    published = pyqtSignal(list)
    trouble = pyqtSignal(list)
    job = pyqtSignal(object)
    idle = pyqtSignal()
    cancelled = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        session.document.changed.connect(self._state)
        session.channels_changed.connect(self._channels)
        session.recipe_changed.connect(self._recipe)
        session.advice_changed.connect(self._advice)
        session.needs_changed.connect(self._needs)
        session.rendered.connect(self._rendered)
        session.thumbnail.connect(self._thumbnail)
        session.opened.connect(self._opened)
        session.published.connect(self._published)
        session.trouble.connect(self._trouble)
        session.jobs.reported.connect(self._job)
        session.jobs.idle.connect(self._idle)
        session.jobs.cancelled.connect(self._cancelled)

    def _state(self, state: ProjectState) -> None:
        self.state.emit(state)

    def _channels(self, channels: object) -> None:
        self.channels.emit(channels)

    def _recipe(self, recipe: object, noise: object) -> None:
        self.recipe.emit(recipe, noise)

    def _advice(self, topic: str, advice: object) -> None:
        self.advice.emit(topic, advice)

    def _needs(self, needs: list[object]) -> None:
        self.needs.emit(needs)

    def _rendered(self, request: Request, image: object) -> None:
        self.rendered.emit(request, image)

    def _thumbnail(self, name: str, image: object) -> None:
        self.thumbnail.emit(name, image)

    def _opened(self, count: int) -> None:
        self.opened.emit(count)

    def _published(self, paths: list[object]) -> None:
        self.published.emit(paths)

    def _trouble(self, errors: list[object]) -> None:
        self.trouble.emit(errors)

    def _job(self, report: JobReport) -> None:
        self.job.emit(report)

    def _idle(self) -> None:
        self.idle.emit()

    def _cancelled(self, title: str) -> None:
        self.cancelled.emit(title)

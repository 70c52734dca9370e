"""The one bridge from the workspace's signals, which come from any thread, to the thread of the
interface.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from psygnal import SignalInstance
from PyQt6.QtCore import QObject, pyqtSignal

from ..workspace.session import Session


class Bridge(QObject):
    """Everything the session says, said again in the interface thread; the session knows nothing of
    Qt.

    All of it passes one queue of this object, so that nothing arrives any more once it is closed.
    Signals without a value mean: pull the snapshot anew.
    """

    state = pyqtSignal()
    channels = pyqtSignal()
    layers = pyqtSignal()
    recipe = pyqtSignal()
    judged = pyqtSignal()
    planned = pyqtSignal()
    logged = pyqtSignal()
    reviewed = pyqtSignal()
    stepped = pyqtSignal()
    advice = pyqtSignal(str, object)
    message = pyqtSignal(str)
    errors = pyqtSignal(list)
    cache = pyqtSignal(object)
    written = pyqtSignal(list)
    calibrated = pyqtSignal(list)
    took_in = pyqtSignal(object, bool)
    rehearsing = pyqtSignal(int, int, str)
    sub_rendered = pyqtSignal(object, object)
    sub_thumb = pyqtSignal(str, object)
    stacked = pyqtSignal(list)
    outlook = pyqtSignal(str, object)
    year = pyqtSignal(list)
    month = pyqtSignal(object, list)
    rendered = pyqtSignal(object, object)
    crops_measured = pyqtSignal(object, object)
    thumbnail = pyqtSignal(str, object)
    published = pyqtSignal(object)
    laid_out = pyqtSignal(object)
    previewed = pyqtSignal(object, object)
    handed_over = pyqtSignal(list)
    version_paired = pyqtSignal(str, str)
    version_kept = pyqtSignal(str)
    version_wall = pyqtSignal(str, object)
    version_rendered = pyqtSignal(object, object)
    versions_ready = pyqtSignal()
    job = pyqtSignal(object)
    idle = pyqtSignal()
    cancelled = pyqtSignal(str)
    tried = pyqtSignal(list)
    _arrived = pyqtSignal(str, object)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._open = True
        self._arrived.connect(self._deliver)  # Qt queues it where it comes from another thread
        for name, source in _sources(session).items():
            source.connect(self._carrier(name))

    def close(self) -> None:
        """Deliver nothing any more."""
        self._open = False

    def _carrier(self, name: str) -> Callable[..., None]:
        def carry(*values: Any) -> None:
            if self._open:
                self._arrived.emit(name, values)

        return carry

    def _deliver(self, name: str, values: tuple[Any, ...]) -> None:
        if self._open:
            getattr(self, name).emit(*values)


def _sources(session: Session) -> dict[str, SignalInstance]:
    """The session's signals, by what the bridge calls them."""
    return {
        "state": session.document.changed,
        "channels": session.channels.changed,
        "layers": session.layers.changed,
        "recipe": session.blend.recipe_changed,
        "judged": session.blend.judged,
        "planned": session.planning.changed,
        "logged": session.log.changed,
        "reviewed": session.subs.changed,
        "stepped": session.subs.stepped,
        "advice": session.advice,
        "message": session.message,
        "errors": session.errors,
        "cache": session.channels.cached,
        "written": session.channels.written,
        "calibrated": session.log.calibrated,
        "took_in": session.log.took_in,
        "rehearsing": session.evening.progressed,
        "sub_rendered": session.subs.pictures.rendered,
        "sub_thumb": session.subs.pictures.thumb,
        "stacked": session.subs.stacked,
        "outlook": session.planning.outlook,
        "year": session.planning.year,
        "month": session.planning.month,
        "rendered": session.blend.rendered,
        "crops_measured": session.blend.crops_measured,
        "thumbnail": session.blend.thumbnail,
        "published": session.publishing.published,
        "laid_out": session.publishing.laid_out,
        "previewed": session.publishing.previewed,
        "handed_over": session.handover.written,
        "version_paired": session.versions.paired,
        "version_kept": session.versions.kept,
        "version_wall": session.versions.wall,
        "version_rendered": session.versions.rendered,
        "versions_ready": session.versions.ready,
        "job": session.jobs.reported,
        "idle": session.jobs.idle,
        "cancelled": session.jobs.cancelled,
        "tried": session.tried,
    }

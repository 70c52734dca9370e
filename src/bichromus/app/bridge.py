"""The one bridge from the workspace's signals, which come from any thread, to the interface
thread.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from ..workspace.session import Session


class Bridge(QObject):
    """Everything the session says, said again in the interface thread; the session knows nothing of
    Qt.

    All of it passes one queue of this object, so that nothing arrives any more once it is closed.
    """

    state = pyqtSignal(object)
    channels = pyqtSignal(object)
    recipe = pyqtSignal(object)
    advice = pyqtSignal(str, object)
    judged = pyqtSignal()
    planned = pyqtSignal()
    logged = pyqtSignal()
    told = pyqtSignal(str)
    cache = pyqtSignal(object)
    took_in = pyqtSignal(object, bool)
    rehearsing = pyqtSignal(int, int, str)
    reviewed = pyqtSignal()
    stepped = pyqtSignal()
    sub_rendered = pyqtSignal(object, object)
    sub_thumb = pyqtSignal(str, object)
    stacked = pyqtSignal(list)
    rehearsed = pyqtSignal(str, object)
    year = pyqtSignal(list)
    rendered = pyqtSignal(object, object)
    thumbnail = pyqtSignal(str, object)
    published = pyqtSignal(list)
    trouble = pyqtSignal(list)
    job = pyqtSignal(object)
    idle = pyqtSignal()
    cancelled = pyqtSignal(str)
    _arrived = pyqtSignal(str, object)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._open = True
        self._arrived.connect(self._deliver)  # Qt queues it where it comes from another thread
        for name, source in {
            "state": session.document.changed,
            "channels": session.channels_changed,
            "recipe": session.recipe_changed,
            "advice": session.advice_changed,
            "judged": session.judged,
            "planned": session.planned,
            "logged": session.logged,
            "told": session.told,
            "cache": session.cached,
            "took_in": session.logbook.took_in,
            "rehearsing": session.logbook.rehearsed,
            "reviewed": session.reviewer.changed,
            "stepped": session.reviewer.stepped,
            "sub_rendered": session.reviewer.rendered,
            "sub_thumb": session.reviewer.thumb,
            "stacked": session.reviewer.stacked,
            "rehearsed": session.rehearsed,
            "year": session.year,
            "rendered": session.rendered,
            "thumbnail": session.thumbnail,
            "published": session.published,
            "trouble": session.trouble,
            "job": session.jobs.reported,
            "idle": session.jobs.idle,
            "cancelled": session.jobs.cancelled,
        }.items():
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

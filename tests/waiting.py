"""Waiting for what workers do: those stepped by hand are stepped, for real ones a signal is awaited."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from psygnal import SignalInstance

from bichromus.workspace.session import Session
from stepped import step_all

_PULSE = threading.Condition()
_emit = SignalInstance.emit


def _emit_and_tell(self: SignalInstance, *args: object, **more: object) -> object:
    result = _emit(self, *args, **more)  # type: ignore[arg-type]
    with _PULSE:
        _PULSE.notify_all()
    return result


SignalInstance.emit = _emit_and_tell  # type: ignore[method-assign, assignment]


def wait(until: Callable[[], object], seconds: float = 60) -> None:
    """Until something holds; fails when it never does."""
    end = time.monotonic() + seconds
    while not until():
        assert time.monotonic() < end, "it never came"
        if not step_all():
            with _PULSE:
                _PULSE.wait(0.1)


def settled(session: Session) -> None:
    """Until there is a picture and nothing is on its way."""
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and not session.jobs.busy
            and not session.previews.busy
        )
    )

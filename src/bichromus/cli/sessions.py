"""A project opened by a verb, with all that follows from its state."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Final

from ..core.model.errors import BichromusError
from ..workspace.project.reading import read_state
from ..workspace.session import Session

_LOOK_S: Final = 0.05


@contextmanager
def opened(project: Path, make: bool = False, layers: bool = True) -> Iterator[Session]:
    """A project with its channels prepared, and with ``layers`` all that its picture stands on;
    made where it is not there and may be. Raises ProjectError, and what went wrong meanwhile.
    """
    if not make or (project / "project.db").exists():
        read_state(project)  # refuses what is no project
    session = Session(project)
    session.layers.on = layers
    errors: list[BichromusError] = []
    session.errors.connect(errors.extend)
    try:
        session.follow()
        wait(session)
        if errors and session.blend.snapshot.recipe is None:
            raise errors[0]
        yield session
    finally:
        session.close()


def wait(session: Session) -> None:
    """Until all work is done."""
    while session.jobs.busy or session.previews.busy:
        time.sleep(_LOOK_S)


@contextmanager
def told_errors(session: Session) -> Iterator[list[BichromusError]]:
    """What goes wrong meanwhile; the first of it is raised where nobody takes it out."""
    errors: list[BichromusError] = []
    session.errors.connect(errors.extend)
    try:
        yield errors
        wait(session)
    finally:
        session.errors.disconnect(errors.extend)
    if errors:
        raise errors[0]

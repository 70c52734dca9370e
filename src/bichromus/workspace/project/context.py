"""What every part of the open project works with."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ...core.advise.base import Advice
from ...core.model.errors import BichromusError, ProjectClosed
from ..work.jobs import Jobs
from ..work.latest import Latest
from .document import Change, Command, Document


@dataclass(frozen=True)
class ProjectContext:
    """The document, the two workers, the clock, and the ways to speak to the person.

    ``report`` says what went wrong, ``message`` something in passing, ``advise`` an advice of a
    topic, or that there is none.
    """

    document: Document
    jobs: Jobs
    previews: Latest
    now: Callable[[], dt.datetime]
    report: Callable[[Sequence[BichromusError]], None]
    message: Callable[[str], None]
    advise: Callable[[str, Advice | None], None]

    def do(self, command: Command, ends: str | None = None) -> bool:
        """A command of the person. What the disk or the input refuses is reported, and the project
        is as it was: False.
        """
        try:
            self.document.do(command, ends)
        except ProjectClosed:
            return False  # closed meanwhile: nobody is there to be told
        except BichromusError as error:
            self.report([error])
            return False
        return True

    def show(self, key: str, change: Change) -> None:
        """A control on its way."""
        self.document.show(key, change)

    def guarded(self, action: Callable[[], object]) -> bool:
        """Do something that the disk or the input may refuse; whether it was done."""
        try:
            action()
        except BichromusError as error:
            self.report([error])
            return False
        return True


def unexpected(title: str, error: Exception) -> BichromusError:
    """What went wrong in a piece of work, in words for the person."""
    if isinstance(error, BichromusError):
        return error
    return BichromusError(
        f"Something went wrong with {title}",
        why=f"{type(error).__name__}: {error}",
        do="The project is unharmed; report this",
    )

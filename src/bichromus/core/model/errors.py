"""What can go wrong, in one tree.

Every error says what happened, to which file or channel, why (with the value received), and what to
do. Printed as one line: ``WHAT (FILE): WHY. WHAT TO DO``.

    BichromusError
      InputError            the input is at fault: exit code 2, one calm sentence in the window
        UnreadableFile      missing, truncated, foreign, forbidden
        UnsupportedData     wrong dimensions, all zero, nowhere finite, a mosaic where planes are
                            needed
        NotLinear           already stretched
        ShapeMismatch       planes that should lie on one grid do not
        UnknownName         a channel, mapping, rig, key or option that does not exist
        NotEnoughData       too few stars, quiet blocks or pixels for the measure asked for
        ResponseError       a response table that cannot separate the lines
        OutputRefused       the output exists, is an input, or its folder is missing
        ProjectError        a project that is open elsewhere, damaged or from a newer version
          ProjectClosed     closed meanwhile
      WriteFailed           full disk, no permission: never taken for odd input

``Cancelled`` stands outside: it derives from BaseException so that no ``except Exception`` swallows
it.
"""

from __future__ import annotations

from pathlib import Path

from .visible import visible


class BichromusError(Exception):
    """Base of all errors that are told to a person."""

    def __init__(
        self, what: str, why: str = "", do: str = "", file: str | Path | None = None
    ) -> None:
        self.what, self.why, self.do = what, why, do
        self.file = str(file) if file is not None else None
        super().__init__(self.sentence())

    def sentence(self) -> str:
        """The whole message in one line; what a terminal would act on stands as a sign."""
        head = f"{self.what} ({self.file})" if self.file else self.what
        text = f"{head}: {self.why}" if self.why else head
        text = text.rstrip(".") + "."
        return visible(f"{text} {self.do.rstrip('.')}." if self.do else text)


class InputError(BichromusError):
    """The input is at fault."""


class UnreadableFile(InputError):
    """Missing, truncated, foreign or forbidden."""


class UnsupportedData(InputError):
    """Readable, but not usable as a picture."""


class NotLinear(InputError):
    """Already stretched where linear data are needed."""


class ShapeMismatch(InputError):
    """Planes of different size where one grid is needed."""


class UnknownName(InputError):
    """A name that does not exist."""


class NotEnoughData(InputError):
    """Too little to measure from."""


class ResponseError(InputError):
    """A response table that cannot separate the lines."""


class OutputRefused(InputError):
    """An output that exists, is an input, or has no folder."""


class WriteFailed(BichromusError):
    """The disk or the rights do not allow it."""


class ProjectError(InputError):
    """A project that cannot be opened."""


class ProjectClosed(ProjectError):
    """A project that was closed meanwhile."""


class Cancelled(BaseException):
    """The person cancelled the job."""

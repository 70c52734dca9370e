"""The open document: every change is a function of what is saved, made under one lock."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from psygnal import Signal
from pydantic_core import PydanticSerializationError

from ...core.files.atomic import write_failed
from ...core.model.errors import BichromusError, InputError, ProjectClosed, ProjectError
from .faults import store_fault
from .journal import LogChange
from .state import ProjectState
from .store import Store
from .trust import Trust

Change = Callable[[ProjectState], ProjectState]
"""From the saved state to the new one; called under the document's lock: no slow work in it."""


def unchanged(state: ProjectState) -> ProjectState:
    """The change of a command that edits the log alone."""
    return state


@dataclass(frozen=True)
class Command:
    """One entry of the history: what undo calls it, what it does to the state, and to the log.

    Commands of the same ``merge`` that follow each other are one entry.
    """

    label: str
    change: Change = unchanged
    merge: str | None = None
    log_change: LogChange | None = None


@dataclass(frozen=True)
class States:
    """What is saved, and what is shown: the same but for controls on their way."""

    saved: ProjectState
    shown: ProjectState

    @property
    def passing(self) -> bool:
        """Whether a control is on its way."""
        return self.shown is not self.saved


class Document:
    """Holds the saved state and the passing changes laid over it.

    Every method may be called from any thread. ``changed`` is emitted after a change, outside the
    lock; as two threads may emit in either order, who hears it pulls ``states`` anew.
    """

    changed = Signal()

    def __init__(self, folder: Path, name: str | None = None) -> None:
        """Open the project in ``folder``, or make it. Raises ProjectError."""
        self.store = Store(folder)
        try:
            saved = self.store.load()
            new = saved is None
            if saved is None:
                saved = self.store.append("new project", ProjectState(name=name or folder.stem))
        except BaseException:
            self.store.close()
            raise
        self.trust = Trust(self.store, new)
        self._lock = threading.RLock()
        self._closed = False
        self._passing: dict[str, Change] = {}
        self._states = States(saved, saved)

    @property
    def states(self) -> States:
        """Saved and shown state of one moment."""
        return self._states

    @property
    def state(self) -> ProjectState:
        """What is shown now."""
        return self._states.shown

    @property
    def saved(self) -> ProjectState:
        """The last state that was made a command."""
        return self._states.saved

    @property
    def folder(self) -> Path:
        """The folder of the project."""
        return self.store.folder

    def update(
        self,
        label: str,
        change: Change = unchanged,
        *,
        merge: str | None = None,
        log_change: LogChange | None = None,
        ends: str | None = None,
    ) -> ProjectState:
        """Make one command of the saved state; on disk when this returns.

        ``log_change`` edits the log in the same transaction. ``ends`` names the passing change that
        becomes this command. Raises WriteFailed, ProjectError once closed, and what the functions
        raise; then the saved state is as it was.
        """
        with self._lock:
            before = self._states
            saved = before.saved
            if ends is not None:
                self._passing.pop(ends, None)
            try:
                self._check_open()
                wanted = change(saved).with_log_place(saved.log.place)
                if log_change is not None or wanted != saved:
                    saved = self._append(label, wanted, merge, log_change)
            finally:
                self._settle(saved)
            moved = self._states != before
        if moved:
            self.changed.emit()
        return saved

    def do(self, command: Command, ends: str | None = None) -> ProjectState:
        """Like ``update``, with a command made elsewhere."""
        return self.update(
            command.label,
            command.change,
            merge=command.merge,
            log_change=command.log_change,
            ends=ends,
        )

    def show(self, key: str, change: Change) -> None:
        """Lay a passing change over whatever is saved: shown, not saved, not in the history.

        The one with the same ``key`` is replaced. Raises what ``change`` raises.
        """
        with self._lock:
            before = self._states
            change(before.saved)  # one that cannot be made is never laid
            self._passing[key] = change
            self._settle(before.saved)
            moved = self._states != before
        if moved:
            self.changed.emit()

    def keep_passing(self, label: str) -> None:
        """Make all that is on its way a command, as when the window closes on it."""
        with self._lock:
            passing = list(self._passing.values())
            self._passing.clear()
        if passing:
            self.update(label, lambda saved: _applied(passing, saved))

    def undo(self) -> str | None:
        """Undo; what was undone, None when there is nothing. Raises ProjectError."""
        return self._move(-1)

    def redo(self) -> str | None:
        """Redo; what was redone, None when there is nothing. Raises ProjectError."""
        return self._move(+1)

    def save_to(self, folder: Path) -> None:
        """Save the project, its versions and its cache in another folder. Raises ProjectError,
        WriteFailed.
        """
        with self._lock:
            self.store.copy_to(folder)

    def close(self) -> None:
        """Wait for the command that is being saved, then refuse all others."""
        with self._lock:
            self._closed = True
            self.store.close()

    def _append(
        self, label: str, wanted: ProjectState, merge: str | None, log_change: LogChange | None
    ) -> ProjectState:
        try:
            return self.store.append(label, wanted, merge, log_change)
        except BichromusError:
            raise
        except sqlite3.Error as error:
            raise store_fault(error, self.folder / "project.db") from error
        except OSError as error:
            raise write_failed(error, self.folder) from error
        except (UnicodeEncodeError, PydanticSerializationError) as error:
            raise InputError(
                "This cannot be kept in the project",
                why="a name in it is not UTF-8",
                do="Rename the file or the folder",
                file=self.folder,
            ) from error

    def _move(self, step: int) -> str | None:
        with self._lock:
            self._check_open()
            moved = self._moved(step)
            if moved is None:
                return None
            label, state = moved
            self._passing.clear()
            self._settle(state)
        self.changed.emit()
        return label

    def _moved(self, step: int) -> tuple[str, ProjectState] | None:
        """Raises ProjectError for a step of the history that is damaged; the project stays as it
        is.
        """
        path = self.folder / "project.db"
        try:
            return self.store.move(step)
        except BichromusError:
            raise
        except sqlite3.Error as error:
            raise store_fault(error, path) from error
        except Exception as error:  # a damaged entry may raise anything at all
            raise ProjectError(
                f"This step cannot be {'undone' if step < 0 else 'done again'}",
                why="what the history holds of it is damaged",
                do="Go on from here; the project is as it was",
                file=path,
            ) from error

    def _check_open(self) -> None:
        if self._closed:
            raise ProjectClosed("This project is closed", do="Open it again", file=self.folder)
        if self.store.read_only:
            raise ProjectError(
                "This project can only be read",
                why=self.store.why_read_only,
                do="Save it elsewhere to work on it",
                file=self.folder,
            )
        if not self.store.still_there:
            raise ProjectError(
                "The project's folder is no longer where it was",
                why="it was moved, renamed or deleted while it is open",
                do="Put it back, or save the project elsewhere",
                file=self.folder,
            )

    def _settle(self, saved: ProjectState) -> None:
        """Lay what is passing over the saved state; what cannot be laid any more is dropped."""
        shown = saved
        for key, change in list(self._passing.items()):
            try:
                shown = change(shown)
            except Exception:
                del self._passing[key]
        self._states = States(saved, saved if shown == saved else shown)


def _applied(changes: list[Change], state: ProjectState) -> ProjectState:
    for change in changes:
        state = change(state)
    return state

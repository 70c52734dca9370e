"""The open document: every change is a command, every change is told."""

from __future__ import annotations

from pathlib import Path

from psygnal import Signal

from ...core.model.errors import InputError, WriteFailed
from .journal import Work
from .state import ProjectState
from .store import Store


class Document:
    """Holds the state; views pull it when ``changed`` is emitted and keep no copies.

    ``show`` sets a passing state (a slider on its way); ``do`` makes it a command and saves it.
    """

    changed = Signal(ProjectState)

    def __init__(self, folder: Path, name: str | None = None) -> None:
        self.store = Store(folder)
        found = self.store.load()
        if found is None:
            state = ProjectState(name=name or folder.stem)
            self.store.append("new project", state)
        else:
            state = found[0]
        self._state = self._saved = state

    @property
    def state(self) -> ProjectState:
        """What is shown now."""
        return self._state

    @property
    def saved(self) -> ProjectState:
        """The last state that was made a command."""
        return self._saved

    @property
    def folder(self) -> Path:
        return self.store.folder

    def do(
        self, label: str, state: ProjectState, merge: str | None = None, work: Work | None = None
    ) -> None:
        """One undoable gesture; ``work`` edits the log with it. Saved when this returns.

        Raises WriteFailed, and what ``work`` raises for input at fault; all stays as it was then.
        """
        if state.log != self._saved.log:  # the log has moved on while this state was made
            state = state.model_copy(update={"log": self._saved.log})
        if state == self._saved and work is None:
            self.show(state)
            return
        try:
            state = self.store.append(label, state, merge, work)
        except InputError:
            self.show(self._saved)
            raise
        except Exception as error:
            self.show(self._saved)
            raise WriteFailed(
                "The change could not be saved",
                why=str(error),
                do="Free some space; the project is as it was before",
                file=self.folder,
            ) from error
        self._saved = state
        self._set(state)

    def show(self, state: ProjectState) -> None:
        """A passing state: shown, not saved, not in the history."""
        if state != self._state:
            self._set(state)

    def undo(self) -> str | None:
        """Undo; what was undone, None when there is nothing."""
        return self._move(-1)

    def redo(self) -> str | None:
        """Redo; what was redone, None when there is nothing."""
        return self._move(+1)

    def close(self) -> None:
        self.store.close()

    def _move(self, step: int) -> str | None:
        moved = self.store.move(step)
        if moved is None:
            return None
        label, state = moved
        self._saved = state
        self._set(state)
        return label

    def _set(self, state: ProjectState) -> None:
        self._state = state
        self.changed.emit(state)

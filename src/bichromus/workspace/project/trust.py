"""What a project points to outside its folder, and whether the person has opened that."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from pathlib import Path

from ..library.opened import Opened
from .state import ProjectState
from .store import Store


class Trust:
    """Of one open project. A new one is the person's own from the start; one that is not known here
    comes from elsewhere until ``allow`` is called.
    """

    def __init__(self, store: Store, new: bool, opened: Opened | None = None) -> None:
        self._store, self._opened = store, opened or Opened()
        self._token = store.token() or ""
        if new:
            self.allow([])

    @property
    def own(self) -> bool:
        """Whether the project was made here, or allowed to read what it points to."""
        return self._opened.folders(self._key) is not None

    def allow(self, paths: Iterable[Path]) -> None:
        """Make the project the person's own, with what it points to."""
        if not self._token and not self._store.read_only:
            self._token = secrets.token_hex(16)
            self._store.set_token(self._token)
        self._opened.add(self._key, _folders_of(paths))

    def accept(self, paths: Iterable[Path]) -> None:
        """The person has opened these files or folders; what else a project from elsewhere points
        to is still asked about.
        """
        self._opened.add(self._key if self.own else self._beside, _folders_of(paths))

    def has_opened(self, path: Path) -> bool:
        """Whether a file lies where the person has opened files for this project, or within it; of
        a link, what it leads to as well.
        """
        folders = self._folders()
        places = {path.absolute(), path.resolve()}
        return all(any(p.is_relative_to(f) for f in folders) for p in places)

    def outside(self, state: ProjectState) -> list[Path]:
        """Files and folders that a project from elsewhere points to, and the person has never
        opened; none for the person's own.
        """
        if self.own:
            return []
        pointed = [Path(s.path) for s in state.sources]
        pointed += [Path(p) for p in state.preparation.layers.values() if p]
        pointed += [Path(state.log.watched)] if state.log.watched else []
        pointed += [Path(str(r[0])) for r in self._store.rows("SELECT path FROM subs")]
        known = {f: self.has_opened(f) for f in {p.parent for p in pointed}}
        return [p for p in dict.fromkeys(pointed) if not known[p.parent]]

    def _folders(self) -> tuple[Path, ...]:
        found = (self._opened.folders(k) or () for k in (self._key, self._beside))
        return (self._store.folder, *(f for folders in found for f in folders))

    @property
    def _key(self) -> str:
        return self._token or f"folder {self._store.folder}"

    @property
    def _beside(self) -> str:
        return f"opened in {self._store.folder}"


def _folders_of(paths: Iterable[Path]) -> list[Path]:
    """The folders of files, and folders as they are; of a link of the person's own both ends."""
    found: set[Path] = set()
    for path in paths:
        for place in (path.absolute(), path.resolve()):
            found.add(place if place.is_dir() else place.parent)
    return sorted(found)

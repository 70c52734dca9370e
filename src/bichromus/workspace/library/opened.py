"""Which folders the person has opened files from, project by project.

It is kept with the person and not with the project: what a project from elsewhere says of files
outside itself is only its maker's word. A project is known by a token that was drawn when it was
made here, or when the person allowed it to read what it points to.
"""

from __future__ import annotations

import fcntl
import json
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Final

import platformdirs

from ...core.model.json_text import parse_json
from ...core.model.text_file import read_text

_NAME: Final = "opened.json"
_MOST: Final = 500
"""Projects that are remembered, the newest."""


class Opened:
    """Folders by token of a project."""

    def __init__(self, path: Path | None = None) -> None:
        """In the person's data folder where no ``path`` is given."""
        self.path = path or Path(platformdirs.user_data_dir("bichromus")) / _NAME

    def folders(self, token: str) -> tuple[Path, ...] | None:
        """Folders that the person has opened files from in a project; None for one that was never
        opened here.
        """
        found = self._read().get(token)
        return None if found is None else tuple(Path(f) for f in found)

    def add(self, token: str, folders: Iterable[Path]) -> None:
        """Remember folders; a disk that refuses costs only a question."""
        wanted = [str(f.absolute()) for f in folders]
        known = self._read().get(token)
        if known is not None and set(wanted) <= set(known):
            return
        with suppress(OSError), self._locked():
            all_known = self._read()
            together = list(dict.fromkeys([*all_known.pop(token, []), *wanted]))
            kept = dict(list({**all_known, token: together}.items())[-_MOST:])
            partial = self.path.with_suffix(f".{os.getpid()}.partial")
            partial.write_text(json.dumps({"projects": kept}, indent=1), "utf-8")
            os.replace(partial, self.path)

    def _read(self) -> dict[str, list[str]]:
        try:
            found = parse_json(read_text(self.path)).get("projects", {})
            return {
                str(k): [f for f in v if isinstance(f, str)]
                for k, v in found.items()
                if isinstance(v, list)
            }
        except (OSError, ValueError, AttributeError):
            return {}

    @contextmanager
    def _locked(self) -> Iterator[None]:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        with open(self.path.with_suffix(".lock"), "a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

"""Settings of the person, not of a project: theme, window, recent projects."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any, Final, TypeVar

import platformdirs

from ...core.model.errors import BichromusError, UnreadableFile
from ...core.model.json_text import parse_json
from ...core.model.text_file import read_text

_RECENT: Final = 8
"""Projects that are remembered."""
_LARGEST: Final = 1_000_000  # bytes; a longer file holds no settings
T = TypeVar("T")


class Settings:
    """Kept as JSON; read once, written at every change. ``fault`` says that the file could not be
    used: then all is as at the first start, and what was there is kept beside it.
    """

    def __init__(self) -> None:
        self._path = Path(platformdirs.user_config_dir("bichromus")) / "settings.json"
        self.fault: BichromusError | None = None
        self._values: dict[str, Any] = {}
        try:
            if self._path.exists():
                self._values = self._read()
        except (OSError, ValueError) as error:
            self._put_aside(error)

    def _read(self) -> dict[str, Any]:
        if not self._path.is_file() or self._path.stat().st_size > _LARGEST:
            raise ValueError("it is no file of settings")
        found = parse_json(read_text(self._path))
        if not isinstance(found, dict):
            raise ValueError("it is not a list of settings")
        return found

    def _put_aside(self, error: Exception) -> None:
        aside = self._path.with_suffix(".damaged.json")
        try:
            os.replace(self._path, aside)
            kept = f"The file is kept as {aside.name}"
        except OSError:
            kept = "The file is left as it is"
        self.fault = UnreadableFile(
            "Your settings could not be read, so the program starts as at first",
            why=getattr(error, "strerror", None) or "the file is damaged",
            do=kept,
            file=self._path,
        )

    def get(self, key: str, default: Any = None) -> Any:
        """A value that was kept."""
        return self._values.get(key, default)

    def get_as(self, key: str, kind: type[T]) -> T | None:
        """A value that was kept, where it is of a kind; else None."""
        value = self._values.get(key)
        plain = isinstance(value, kind) and not (isinstance(value, bool) and kind is not bool)
        return value if plain else None

    def set(self, key: str, value: Any) -> None:
        """Keep a value; a disk that refuses costs only the comfort."""
        self._values[key] = value
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            partial = self._path.with_suffix(f".{os.getpid()}.partial")
            partial.write_text(json.dumps(self._values, indent=1), "utf-8")
            os.replace(partial, self._path)
        except OSError:
            pass

    def recent(self) -> list[Path]:
        """Recent projects that still exist, newest first."""
        kept = self.get_as("recent", list) or []
        return [Path(p) for p in kept if isinstance(p, str) and "\0" not in p and Path(p).is_dir()]

    def add_recent(self, folder: Path) -> None:
        """Remember a project as the newest."""
        rest = [str(p) for p in self.recent() if p != folder]
        self.set("recent", [str(folder), *rest][:_RECENT])

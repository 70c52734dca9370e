"""Settings of the person, not of a project: theme, window, recent projects."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any, Final

import platformdirs

_RECENT: Final = 8
"""Projects that are remembered."""


class Settings:
    """Kept as JSON; read once, written at every change."""

    def __init__(self) -> None:
        self._path = Path(platformdirs.user_config_dir("bichromus")) / "settings.json"
        try:
            found = json.loads(self._path.read_text("utf-8"))
            self._values: dict[str, Any] = found if isinstance(found, dict) else {}
        except (OSError, ValueError):
            self._values = {}

    def get(self, key: str, default: Any = None) -> Any:
        """A value that was kept."""
        return self._values.get(key, default)

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
        return [p for p in map(Path, self.get("recent", [])) if p.is_dir()]

    def add_recent(self, folder: Path) -> None:
        """Remember a project as the newest."""
        rest = [str(p) for p in self.recent() if p != folder]
        self.set("recent", [str(folder), *rest][:_RECENT])

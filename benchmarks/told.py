"""When a session shows its first picture, and when all of it is there."""

from __future__ import annotations

import threading
import time
from typing import Any


class Told:
    """When a session shows its first picture, and when all of it is there."""

    def __init__(self, session: Any) -> None:
        self._session = session
        self.first: float | None = None
        self.whole: float | None = None
        self.done = threading.Event()
        session.blend.recipe_changed.connect(self._look)

    def _look(self) -> None:
        channels = self._session.channels.snapshot
        if not channels.origins or self._session.blend.snapshot.recipe is None:
            return
        self.first = self.first or time.perf_counter()
        if not channels.rough and self.whole is None:
            self.whole = time.perf_counter()
            self.done.set()

    def after(self, begun: float) -> dict[str, float]:
        """Seconds to both; raises where they were never seen."""
        if self.first is None or self.whole is None:
            raise SystemExit("no picture was seen")
        return {"seen": self.first - begun, "whole": self.whole - begun}

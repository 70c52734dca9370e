"""Waiting for what another thread does."""

from __future__ import annotations

import time
from collections.abc import Callable


def wait(until: Callable[[], object], seconds: float = 60) -> None:
    """Until something holds; fails when it never does."""
    end = time.monotonic() + seconds
    while not until():
        assert time.monotonic() < end, "it never came"
        time.sleep(0.01)

"""What is made once for all test processes, by whichever of them needs it first."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Callable
from pathlib import Path

import pytest


def made_once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder of that name that ``make`` has filled; nobody changes it afterwards."""
    base = factory.getbasetemp()
    root = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    folder, done = root / name, root / f"{name}.done"
    with (root / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not done.exists():
            folder.mkdir()
            make(folder)
            done.touch()
    return folder

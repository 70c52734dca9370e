"""A session on an empty project."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from bichromus.workspace.session import Session


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    """Begun, and closed afterwards."""
    found = Session(tmp_path / "p.bichromus", "p")
    found.begin()
    yield found
    found.close()

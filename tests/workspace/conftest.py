"""A session on an empty project, its workers stepped by hand."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from bichromus.workspace.session import Session
from stepped import stepped_session


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    """Begun, and closed afterwards."""
    found = stepped_session(tmp_path / "p.bichromus", "p")
    found.follow()
    yield found
    found.close()

"""A small entry of a cache."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from bichromus.core.measure import measure_plane
from bichromus.core.model.planes import Picture
from bichromus.workspace.channels.cache import Draft, save_prepared
from bichromus.workspace.channels.notes import Notes
from bichromus.workspace.channels.origin import Origin


def make_entry(cache: Path) -> str:
    """Keep a channel in ``cache``; its key."""
    key = "a" * 24
    plane = np.random.default_rng(5).normal(0.1, 0.01, (160, 192)).astype(np.float32)
    draft = Draft(
        Origin("stack", "Ha", ("one",)),
        "one",
        plane,
        measure_plane(Picture(plane), "Ha"),
        3.0,
        Notes(()),
    )
    return save_prepared(cache, key, draft).key

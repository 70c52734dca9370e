"""PNG."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

from ...model.errors import UnreadableFile
from ...model.planes import Header
from .base import Reader


def _sniff(head: bytes) -> bool:
    return head.startswith(b"\x89PNG\r\n\x1a\n")


def _read(path: Path) -> tuple[np.ndarray, Header]:
    data = cv2.imdecode(np.fromfile(path, np.uint8), cv2.IMREAD_UNCHANGED)
    if data is None:
        raise UnreadableFile(
            "This PNG file cannot be read",
            why="it is cut short or damaged",
            do="Copy it again from where it came",
            file=path,
        )
    stored = np.asarray(data)
    return (np.moveaxis(stored[..., 2::-1], -1, 0) if stored.ndim == 3 else stored), Header()


READER = Reader("png", "PNG", (".png",), _sniff, _read, order=30)

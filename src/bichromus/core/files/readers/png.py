"""PNG."""

from __future__ import annotations

import logging
import struct
from pathlib import Path
from typing import Final

import imagecodecs
import numpy as np

from ...model.errors import UnreadableFile
from ...model.planes import Header
from ..foreign import FOREIGN, check_packing, check_room
from .base import Reader

logging.getLogger("imagecodecs").setLevel(logging.CRITICAL + 1)  # what is wrong, we say
_HEAD_BYTES: Final = 26
_GREYS: Final = (0, 4)
_SAMPLES: Final = {0: 1, 2: 3, 3: 3, 4: 2, 6: 4}
"""Values per pixel by the kind of colour: grey, colour, palette, grey and colour with alpha."""


def _sniff(head: bytes) -> bool:
    return head.startswith(b"\x89PNG\r\n\x1a\n")


def _announced(path: Path) -> int:
    """The kind of colour that a file announces. Raises UnsupportedData for more pixels than there
    is room for.
    """
    with open(path, "rb") as handle:
        head = handle.read(_HEAD_BYTES)
    if len(head) < _HEAD_BYTES:
        return -1
    width, height, bits, kind = struct.unpack(">IIBB", head[16:26])
    samples = _SAMPLES.get(kind, 4)
    check_room((height, width, samples), max(bits // 8, 1), path)
    check_packing(height * width * samples * bits // 8, path.stat().st_size, path)
    return int(kind)


def _read(path: Path) -> tuple[np.ndarray, Header]:
    kind = _announced(path)
    try:
        stored = np.asarray(imagecodecs.png_decode(path.read_bytes()))
    except FOREIGN as error:
        raise UnreadableFile(
            "This PNG file cannot be read",
            why="it is cut short or damaged",
            do="Copy it again from where it came",
            file=path,
        ) from error
    if stored.ndim == 3:  # without what is see-through
        stored = stored[..., 0] if kind in _GREYS else np.moveaxis(stored[..., :3], -1, 0)
    return stored, Header()


READER = Reader("png", "PNG", (".png",), _sniff, _read, order=30)

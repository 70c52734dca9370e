"""What a reader of pictures is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...model.planes import Header


@dataclass(frozen=True)
class Reader:
    """One format in: how its files begin, the endings that they usually have (lower case, the usual
    one first), and what reads the data as stored, (H, W), (H, W, 3) or (3, H, W), with the header.

    ``sniff`` gets the first 32 bytes, unpacked where the file is gzipped and ``packed`` allows it.
    ``read`` raises UnreadableFile, UnsupportedData.
    """

    id: str
    title: str
    suffixes: tuple[str, ...]
    sniff: Callable[[bytes], bool]
    read: Callable[[Path], tuple[np.ndarray, Header]]
    order: int = 100
    packed: bool = False

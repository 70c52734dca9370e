"""What a writer of finished pictures is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PIL import ImageCms

from ...model.planes import Header

Bands = Iterator[np.ndarray]
"""Consecutive row bands (rows, W, 3) in the format's dtype."""


@dataclass(frozen=True)
class Task:
    """A picture of ``shape`` (H, W) to be written: its bands, the recipe as JSON text, where in the
    sky it lies, and the quality of lossy formats.
    """

    bands: Bands
    shape: tuple[int, int]
    recipe: str
    header: Header = field(default_factory=Header)
    quality: int = 92


@dataclass(frozen=True)
class PictureFormat:
    """One format out. ``suffixes`` are the endings that ask for it, the one that it writes first;
    ``dtype`` is that of its bands, ``words`` and ``tip`` say what it is and what it is for.
    ``tail`` comes after the name where another format has the same ending. ``write`` gets a path
    that may be written to.
    """

    id: str
    suffixes: tuple[str, ...]
    dtype: str
    words: str
    tip: str
    write: Callable[[Path, Task], None]
    order: int = 100
    tail: str = ""

    @property
    def suffix(self) -> str:
        """The ending that it writes."""
        return self.suffixes[0]


def srgb_profile() -> bytes:
    """An sRGB profile."""
    return ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()

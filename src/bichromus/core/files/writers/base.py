"""What a writer of finished pictures is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ...model.imprint import Imprint
from ...model.planes import Header
from ...numerics.spaces import SRGB, Space
from ..profiles import profile_of
from ..xmp import xmp_packet

SOFTWARE = "Bichromus"

Bands = Iterator[np.ndarray]
"""Consecutive row bands (rows, W, 3) in the format's dtype."""


@dataclass(frozen=True)
class Task:
    """A picture of ``shape`` (H, W) to be written: its bands, the recipe as JSON text, where in the
    sky it lies, the quality of lossy formats, what is said of it, and the space of its colours.
    """

    bands: Bands
    shape: tuple[int, int]
    recipe: str
    header: Header = field(default_factory=Header)
    quality: int = 92
    imprint: Imprint = field(default_factory=Imprint)
    space: Space = SRGB

    @property
    def profile(self) -> bytes:
        """Its colour profile."""
        return profile_of(self.space)

    @property
    def xmp(self) -> bytes:
        """What is said of it and its recipe, as an XMP packet."""
        return xmp_packet(self.imprint, self.recipe, SOFTWARE)


@dataclass(frozen=True)
class PictureFormat:
    """One format out. ``suffixes`` are the endings that ask for it, the one that it writes first;
    ``dtype`` is that of its bands, ``words`` and ``tip`` say what it is and what it is for.
    ``tail`` comes after the name where another format has the same ending; ``captioned``: a strip
    of words may stand under the picture. ``write`` gets a path
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
    captioned: bool = True

    @property
    def suffix(self) -> str:
        """The ending that it writes."""
        return self.suffixes[0]

"""Stacks read coarsely, by stripes: what can be seen of them in a moment."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ...core.files.frames import Frame, open_frame
from ...core.model.planes import F32
from ...core.numerics.smoothing import fill
from ..project.state import SourceState

_LONGEST_PX: Final = 900


@dataclass(frozen=True)
class Coarse:
    """A stack made ``factor`` times smaller: its planes (1 or 3, H, W), finite."""

    source: SourceState
    factor: int
    planes: F32

    @property
    def light(self) -> F32:
        """All of its planes in one (H, W)."""
        return np.asarray(self.planes.mean(0), np.float32)

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width."""
        return int(self.planes.shape[1]), int(self.planes.shape[2])


def read_coarse(source: SourceState) -> Coarse:
    """Read a stack by means of whole cells; a mosaic site by site. Raises UnreadableFile,
    UnsupportedData.
    """
    frame = open_frame(Path(source.path))
    factor = max(1, round(max(frame.shape) / _LONGEST_PX))
    if source.bayer and len(frame.stored) == 1:
        factor = max(2, 2 * round(factor / 2))
        planes = _sites(frame, source.bayer, factor // 2)
    else:
        planes = [_one(frame, plane).reduced(factor) for plane in frame.stored]
    made = np.stack(planes)
    return Coarse(source, factor, np.stack([fill(p, ~np.isfinite(p)) for p in made]))


def _one(frame: Frame, stored: np.ndarray) -> Frame:
    """One plane of a frame as a frame of its own."""
    return replace(frame, stored=stored[None])


def _sites(frame: Frame, pattern: str, factor: int) -> list[F32]:
    """R, G and B of a mosaic, each from its own sites."""
    mosaic = frame.stored[0]
    height, width = (n // 2 * 2 for n in mosaic.shape)
    found: dict[str, list[F32]] = {}
    for number, colour in enumerate(pattern):
        part = mosaic[number // 2 : height : 2, number % 2 : width : 2]
        found.setdefault(colour, []).append(_one(frame, part).reduced(factor))
    return [np.asarray(np.mean(found[c], axis=0), np.float32) for c in "RGB"]

"""Colour spaces that a finished picture may be written in, with D65 white and the sRGB curve."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .oklab import decode, encode

F64 = NDArray[np.float64]
Chromaticity = tuple[float, float]
_D65: Final[Chromaticity] = (0.3127, 0.3290)


@dataclass(frozen=True)
class Space:
    """A space by its primaries, as chromaticities (x, y) of red, green and blue."""

    id: str
    title: str
    tip: str
    primaries: tuple[Chromaticity, Chromaticity, Chromaticity]

    def to_xyz(self) -> F64:
        """The matrix (3, 3) from linear light to CIE XYZ, white at Y = 1."""
        columns = np.array([_xyz(c) for c in self.primaries]).T
        return np.asarray(columns * np.linalg.solve(columns, _xyz(_D65)), np.float64)

    def from_srgb(self, code: F32) -> F32:
        """sRGB code (3, ...) as code of this space: the same colours."""
        if self is SRGB:
            return code
        move = np.linalg.solve(self.to_xyz(), SRGB.to_xyz()).astype(np.float32)
        light = decode(code.reshape(3, -1).copy())
        return encode(np.ascontiguousarray(move @ light)).reshape(code.shape)


def _xyz(at: Chromaticity) -> F64:
    x, y = at
    return np.array([x / y, 1.0, (1 - x - y) / y])


SRGB: Final = Space(
    "srgb",
    "sRGB",
    "What every screen and browser understands (IEC 61966-2-1)",
    ((0.640, 0.330), (0.300, 0.600), (0.150, 0.060)),
)
WIDE: Final = Space(
    "wide",
    "wide (P3)",
    "The same colours in the wider space of today's screens and printers (primaries of SMPTE RP "
    "431-2): room for what is done to it elsewhere",
    ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060)),
)
SPACES: Final = {s.id: s for s in (SRGB, WIDE)}

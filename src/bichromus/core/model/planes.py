"""Pictures as they come from files."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .channel import FilterName

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Header:
    """What a file says of itself. None where it says nothing.

    ``exposure_s`` is one sub, ``total_s`` the whole integration, begun at ``date_utc`` and ended at
    ``end_utc``, ``pixel_um`` and ``focal_mm`` the
    optics, ``saturation`` in the units of the data, ``bayer`` the pattern with its first letter at
    element [0, 0].
    """

    filter: FilterName | None = None
    exposure_s: float | None = None
    total_s: float | None = None
    subs: int | None = None
    camera: str | None = None
    telescope: str | None = None
    station: str | None = None
    object_name: str | None = None
    date_utc: str | None = None
    end_utc: str | None = None
    pixel_um: float | None = None
    focal_mm: float | None = None
    gain: float | None = None
    temperature_c: float | None = None
    bayer: str | None = None
    saturation: float | None = None
    history: tuple[str, ...] = ()
    wcs: tuple[tuple[str, Any], ...] = ()

    @property
    def scale_arcsec(self) -> float | None:
        """Pixel scale in arcseconds, from pixel and focal length."""
        if self.pixel_um and self.focal_mm:
            return 206.265 * self.pixel_um / self.focal_mm
        return None


@dataclass(frozen=True)
class Picture:
    """Linear data of one file: ``data`` is float32, (H, W) or (3, H, W); NaN where nothing was
    seen.
    """

    data: F32
    header: Header = field(default_factory=Header)
    file: Path | None = None
    bits: int | None = None
    warnings: tuple[str, ...] = ()

    @property
    def colour(self) -> bool:
        """Whether it holds three planes."""
        return self.data.ndim == 3

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width."""
        return int(self.data.shape[-2]), int(self.data.shape[-1])

    @property
    def label(self) -> str:
        """How it is called in a sentence: its file, or what it is."""
        return self.file.name if self.file else "picture"

    def with_warnings(self, *more: str) -> Picture:
        """The same with more to say of it."""
        return replace(self, warnings=(*self.warnings, *more))

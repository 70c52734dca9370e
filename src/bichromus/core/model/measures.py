"""What is measured of a plane."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from .planes import Mask


@dataclass(frozen=True)
class Noise:
    """Noise of one plane, in its own units.

    ``sigma_px`` from pixel to pixel, ``sigma_eff`` the white noise that would look the same on
    large scales (None where it cannot be told from nebula), ``method`` one of half-stacks, null,
    pairs, kappa, power-law, or None.
    """

    sigma_px: float
    sigma_eff: float | None
    method: str | None
    quiet_blocks: int
    warnings: tuple[str, ...] = ()

    @property
    def best(self) -> float:
        """sigma_eff where it is known, else sigma_px."""
        return self.sigma_eff if self.sigma_eff is not None else self.sigma_px


@dataclass(frozen=True)
class LargeScale:
    """Large-scale noise that is known from before a plane was resampled, and the way by which it
    was told.
    """

    sigma: float
    method: str

    def on_grid(self, scale: float) -> LargeScale:
        """The same on pixels ``scale`` times as small."""
        return replace(self, sigma=self.sigma / scale)


@dataclass(frozen=True)
class Surface:
    """A plane a + bx x + by y, with x and y in pixels from the picture's centre."""

    a: float
    bx: float = 0.0
    by: float = 0.0
    width: int = 1
    height: int = 1

    def rows(self, y0: int, y1: int, dtype: type = np.float32) -> np.ndarray:
        """The surface on rows y0 to y1, as (rows, width)."""
        x = (np.arange(self.width) - (self.width - 1) / 2) * self.bx
        y = self.a + (np.arange(y0, y1) - (self.height - 1) / 2) * self.by
        return np.add(y[:, None], x[None, :], dtype=dtype, casting="same_kind")

    def peak_to_peak(self) -> float:
        """The highest value over the frame less the lowest."""
        return abs(self.bx) * (self.width - 1) + abs(self.by) * (self.height - 1)


@dataclass(frozen=True)
class Signal:
    """Signal of one channel over a region: mean, median, and the share of the frame that the region
    covers.
    """

    mean: float
    median: float
    region_share: float
    region: Mask = field(repr=False, compare=False)


@dataclass(frozen=True)
class Stars:
    """Stars of one plane. Widths in pixels, NaN-free; zero stars gives None widths."""

    count: int
    fwhm_px: float | None
    hfr_px: float | None
    ellipticity: float | None
    saturated: int
    beta: float | None = None
    x: tuple[float, ...] = field(default=(), repr=False)
    y: tuple[float, ...] = field(default=(), repr=False)
    flux: tuple[float, ...] = field(default=(), repr=False)


@dataclass(frozen=True)
class Measure:
    """All figures of one channel."""

    channel: str | None
    shape: tuple[int, int]
    surface: Surface
    noise: Noise
    signal: float
    signal_own: float
    region_share: float
    snr: float | None
    stars: Stars
    white_px: float | None = None
    warnings: tuple[str, ...] = ()

    @property
    def background(self) -> float:
        """Level of the background at the picture's centre."""
        return self.surface.a

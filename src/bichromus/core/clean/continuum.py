"""The continuum under a line: how much of a broadband stack it holds, found on the stars."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..measure.halos import Core
from ..measure.run import check_same_shape
from ..measure.stars import find_stars, zero_sum
from ..model.errors import NotEnoughData
from ..model.planes import F32, Picture
from ..numerics.robust import FWHM_TO_SIGMA, MAD_TO_SIGMA
from ..numerics.smoothing import fill, gaussian
from ..numerics.surface import low_surface
from .rings import common_cores, take_rings_off

_FEW: Final = 50
_UNCLIPPED: Final = 0.6  # of the top value: the response looks at a star's whole profile
_BRIGHT: Final = 8.0  # sigma of a star in the broadband channel
_SCATTER: Final = 0.08  # of the ratio: how far stars differ in colour beside their noise
_ABOVE_MODE: Final = 1.02
_LEAST: Final = 12


@dataclass(frozen=True)
class Continuum:
    """``k``: line units of a star over its broadband units, with its error; ``blur_line`` and
    ``blur_broad`` (sigma, px) bring both to one star ``width`` (FWHM, px). ``full`` are the stars
    that either plane cut off.
    """

    k: float
    error: float
    stars: int
    blur_line: float
    blur_broad: float
    width: float
    warnings: tuple[str, ...] = ()
    full: tuple[Core, ...] = ()

    def take_off(self, line: F32, broad: F32) -> F32:
        """line - k (broad - its sky); NaN where either is unseen."""
        seen = np.isfinite(line) & np.isfinite(broad)
        filled = fill(broad, ~np.isfinite(broad))
        filled = filled - low_surface(filled).rows(0, filled.shape[0])
        soft = fill(line, ~np.isfinite(line))
        light = np.float32(self.k) * gaussian(filled, self.blur_broad)
        out = gaussian(soft, self.blur_line) - light
        take_rings_off(out, light, self.full, self.width)
        return np.where(seen, out, np.float32(np.nan))


def find_continuum(line: Picture, broad: Picture) -> Continuum:
    """Measure k on clean unsaturated stars. Raises ShapeMismatch, NotEnoughData."""
    check_same_shape(((line.label, line), (broad.label, broad)))
    planes = [fill(p.data, ~np.isfinite(p.data)) for p in (line, broad)]
    stars = [find_stars(p, q.header.saturation) for p, q in zip(planes, (line, broad), strict=True)]
    widths = [s.fwhm_px for s in stars]
    if widths[1] is None or stars[1].count < _LEAST:
        raise NotEnoughData(
            "There are too few stars to find the continuum on",
            why=f"{stars[1].count} found",
            do="Take the continuum off on a larger part of the frame",
            file=broad.file,
        )
    wide = max(widths[0] or widths[1], widths[1])
    blurs = [float(np.sqrt(max(wide**2 - (w or wide) ** 2, 0))) / FWHM_TO_SIGMA for w in widths]
    responses = [zero_sum(gaussian(p, b), wide) for p, b in zip(planes, blurs, strict=True)]
    sigma = [MAD_TO_SIGMA * float(np.median(np.abs(r[::3, ::3]))) for r in responses]
    x, y = np.rint(stars[1].x).astype(int), np.rint(stars[1].y).astype(int)
    h = [_peak(r, x, y) for r in responses]
    good = (h[1] > _BRIGHT * sigma[1]) & _unsaturated(line, x, y) & _unsaturated(broad, x, y)
    if good.sum() < _LEAST:
        raise NotEnoughData(
            "There are too few stars to find the continuum on",
            why=f"{int(good.sum())} are bright enough",
            do="Use a broadband stack with more hours",
            file=broad.file,
        )
    ratio = h[0][good] / h[1][good]
    first = float(np.median(ratio))
    variance = (sigma[0] ** 2 + first**2 * sigma[1] ** 2) / h[1][good] ** 2 + (
        _SCATTER * first
    ) ** 2
    k, error = _tukey(ratio, 1 / variance)
    mode = _mode(ratio, np.sqrt(variance))
    if (
        k > _ABOVE_MODE * mode
    ):  # stars with emission of their own, or nebula under them, pull the mean up
        k = mode
    count = int(good.sum())
    warnings = (
        (f"Only {count} stars tell the continuum: its share is uncertain.",) if count < _FEW else ()
    )
    full = common_cores(((line, planes[0]), (broad, planes[1])), wide)
    return Continuum(k, error, count, blurs[0], blurs[1], float(wide), warnings, tuple(full))


def _peak(response: F32, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """The response at stars, the highest of the nine pixels around."""
    height, width = response.shape
    steps = (-1, 0, 1)
    near = [
        response[np.clip(y + dy, 0, height - 1), np.clip(x + dx, 0, width - 1)]
        for dy in steps
        for dx in steps
    ]
    return np.max(near, 0).astype(float)


def _unsaturated(picture: Picture, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    top = picture.header.saturation
    if top is None:
        return np.ones(len(x), bool)
    return _peak(np.nan_to_num(picture.data), x, y) < _UNCLIPPED * top


def _tukey(values: np.ndarray, weights: np.ndarray) -> tuple[float, float]:
    """Weighted median, then Tukey's biweight; value and error."""
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    centre = float(values[order][np.searchsorted(total, total[-1] / 2)])
    sigma = max(MAD_TO_SIGMA * float(np.median(np.abs(values - centre))), 1e-12)
    w = weights
    for _ in range(20):
        w = weights * np.clip(1 - ((values - centre) / (4.685 * sigma)) ** 2, 0, 1) ** 2
        centre = float((w * values).sum() / w.sum())
    spread = float((w * (values - centre) ** 2).sum() / w.sum())
    return centre, float(np.sqrt(spread * (w**2).sum()) / w.sum())


def _mode(values: np.ndarray, errors: np.ndarray) -> float:
    """The peak of the sum of all stars' Gaussians."""
    low, high = np.quantile(values, [0.02, 0.9])
    grid = np.linspace(low, high, 400)
    width = np.maximum(errors, 0.02 * abs(float(np.median(values))))
    density = (np.exp(-0.5 * ((grid[:, None] - values) / width) ** 2) / width).sum(1)
    return float(grid[int(density.argmax())])

"""The scale between two maps of the same line, told by its nebula alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask
from ..numerics.robust import MAD_TO_SIGMA, clipped_sigma
from ..numerics.smoothing import fill
from ..numerics.starlet import band

_MIN_PIXELS: Final = 5000
_MIN_CORRELATION: Final = 0.9
_STRONG: Final = 25.0  # squared sigma: five sigma in either map
_WHITE_LEFT: Final = 0.104
"""Of white noise in W3 + W4 + W5 of the starlet, as a share of a pixel's."""
_CLIP: Final = 3.5


@dataclass(frozen=True)
class LineScale:
    """Second map = ``scale`` x first map; ``correlation`` and the number of pixels it rests on."""

    scale: float
    correlation: float
    pixels: int


def line_scale(first: F32, second: F32, stars: Mask, sigma: tuple[float, float]) -> LineScale:
    """Deming regression of the band-passed maps (starlet W3 + W4 + W5), stars left out.

    ``sigma`` are the maps' large-scale noises; only their ratio matters for the line, both for the
    choice of pixels. Raises NotEnoughData below a correlation of 0.9 or 5,000 pixels.
    """
    missing = stars | ~np.isfinite(first) | ~np.isfinite(second)
    x_map, y_map = band(fill(first, missing), 3, 5), band(fill(second, missing), 3, 5)
    floor = [max(clipped_sigma(m[~missing][::7]), 1e-30) for m in (x_map, y_map)]
    share = [s * _WHITE_LEFT for s in sigma]
    vx, vy = (min(f, s) ** 2 for f, s in zip(floor, share, strict=True))
    strong = ~missing & (x_map**2 / vx + y_map**2 / vy > _STRONG)
    x, y = x_map[strong].astype(float), y_map[strong].astype(float)
    scale = 1.0
    for _ in range(8):
        if x.size < _MIN_PIXELS:
            raise NotEnoughData(
                "The two stacks share too little nebula to tell their scale",
                why=f"{x.size:,} pixels stand out, {_MIN_PIXELS:,} are needed",
                do="Use one of them alone",
            )
        scale = _deming(x, y, vy / vx)
        residual = y - scale * x
        sigma_r = MAD_TO_SIGMA * float(np.median(np.abs(residual)))
        keep = np.abs(residual) < _CLIP * max(sigma_r, 1e-30)
        if keep.all():
            break
        x, y = x[keep], y[keep]
    correlation = float(np.corrcoef(x, y)[0, 1])
    if not correlation >= _MIN_CORRELATION or not scale > 0:
        raise NotEnoughData(
            "The two stacks do not show the same nebula in this line",
            why=f"correlation {correlation:.2f}, {_MIN_CORRELATION} is needed",
            do="Check their lines, or use one of them alone",
        )
    return LineScale(scale, correlation, int(x.size))


def _deming(x: np.ndarray, y: np.ndarray, ratio: float) -> float:
    sxx, syy, sxy = float((x * x).sum()), float((y * y).sum()), float((x * y).sum())
    t = syy - ratio * sxx
    return (t + np.sqrt(t * t + 4 * ratio * sxy * sxy)) / (2 * sxy) if sxy else 0.0

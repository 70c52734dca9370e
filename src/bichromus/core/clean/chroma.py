"""Stars in natural colour: each star one colour, on the profile of the sharpest channel, so that
none gets coloured rings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.errors import NotEnoughData
from ..model.measures import Stars
from ..model.planes import F32
from ..model.progress import SILENT, Progress

_WANTED: Final = 80
_LEAST: Final = 12
_REACH: Final = 6.0  # star widths over which a star's colour is spread
_CLEAR: Final = 12.0  # sigma of a star whose colour is told
_SURE: Final = 30.0  # sigma at which a star's own colour counts half
_APERTURE: Final = 1.6  # star widths that its light is summed over
_UNCLIPPED: Final = 0.8  # of the top value


@dataclass(frozen=True)
class ColouredStars:
    """``planes`` (3, H, W) R, G, B; ``balance`` are the gains that make the middle star white, told
    from ``used`` stars; ``told`` stars have a colour of their own.
    """

    planes: F32
    balance: tuple[float, float, float]
    used: int
    told: int
    warnings: tuple[str, ...] = ()


def colour_stars(
    layers: Sequence[F32],
    stars: Stars,
    widths: Sequence[float],
    sigmas: Sequence[float],
    tops: Sequence[float | None],
    progress: Progress = SILENT,
) -> ColouredStars:
    """Star layers of R, G and B (H, W, sky at 0) in natural colour. ``stars`` are places,
    ``widths`` the FWHM of each channel in px, ``sigmas`` its noise, ``tops`` the level of a full
    core.

    Raises NotEnoughData under 12 stars that are neither full nor faint.
    """
    wide = max(widths)
    x, y = np.array(stars.x), np.array(stars.y)
    light, full = _light(layers, x, y, _APERTURE * wide, tops)
    clear = np.all(
        [
            f > _CLEAR * s * np.sqrt(np.pi) * _APERTURE * wide
            for f, s in zip(light, sigmas, strict=True)
        ],
        0,
    )
    good = clear & ~full
    if good.sum() < _LEAST:
        raise NotEnoughData(
            "There are too few stars to tell their colours",
            why=f"{int(good.sum())} are bright enough in red, green and blue",
            do="Use broadband stacks with more hours",
        )
    ratios = light[:, good] / light[1, good]
    balance = 1 / np.median(ratios, axis=1)
    warnings = []
    if good.sum() < _WANTED:
        warnings.append(
            f"Only {int(good.sum())} stars tell the white of all: their colours may lean."
        )
    told = clear | full
    noise = np.array(sigmas)[:, None] * np.sqrt(np.pi) * _APERTURE * wide
    chroma = _chroma(
        light, balance, good, full, told, np.min(light / np.maximum(noise, 1e-30), axis=0)
    )
    sharp = int(np.argmin(widths))
    ratio = _spread(
        layers[0].shape,
        x[told],
        y[told],
        light[sharp, told],
        chroma / chroma[sharp],
        wide,
        progress,
    )
    planes = np.stack(
        [layers[sharp] * np.float32(balance[sharp]) * ratio[c] for c in range(3)]
    ).astype(np.float32)
    return ColouredStars(
        planes,
        (float(balance[0]), float(balance[1]), float(balance[2])),
        int(good.sum()),
        int(told.sum()),
        tuple(warnings),
    )


def _light(
    layers: Sequence[F32], x: np.ndarray, y: np.ndarray, radius: float, tops: Sequence[float | None]
) -> tuple[np.ndarray, np.ndarray]:
    """Light of each star in each layer (3, N), and whether its core is full in one of them."""
    reach = int(np.ceil(radius)) + 1
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    inside = np.clip(radius + 0.5 - np.hypot(dx, dy), 0, 1)
    height, width = layers[0].shape
    rows = np.clip(np.rint(y).astype(int)[:, None, None] + dy, 0, height - 1)
    columns = np.clip(np.rint(x).astype(int)[:, None, None] + dx, 0, width - 1)
    light, full = [], np.zeros(len(x), bool)
    for layer, top in zip(layers, tops, strict=True):
        stamps = np.nan_to_num(layer[rows, columns])
        light.append((stamps * inside).sum((1, 2)))
        if top is not None:
            full |= stamps.max((1, 2)) > _UNCLIPPED * top
    return np.array(light, float), full


def _chroma(
    light: np.ndarray,
    balance: np.ndarray,
    good: np.ndarray,
    full: np.ndarray,
    told: np.ndarray,
    snr: np.ndarray,
) -> np.ndarray:
    """R, G and B of each star that has a colour (3, N); a full one is as white as most, and a faint
    one is drawn toward that, as its noise tells a colour that it has not."""
    colour = np.maximum(light * balance[:, None], 1e-30)
    usual = np.median(colour[:, good] / colour[:, good].sum(0), axis=1)
    colour[:, full] = usual[:, None]
    trust = np.maximum(snr, 0) ** 2 / (np.maximum(snr, 0) ** 2 + _SURE**2)
    share = np.log(colour / colour.sum(0)) * trust + np.log(usual)[:, None] * (1 - trust)
    colour = np.exp(share)
    return np.asarray(colour[:, told])


def _spread(
    shape: tuple[int, ...],
    x: np.ndarray,
    y: np.ndarray,
    light: np.ndarray,
    ratio: np.ndarray,
    width: float,
    progress: Progress,
) -> F32:
    """Ratio maps (3, H, W): each place has the colour of the stars whose light falls on it, white
    where none does.
    """
    total = np.full(shape, 1e-6, np.float32)
    out = np.full((3, *shape), 1e-6, np.float32)
    reach = int(np.ceil(_REACH * width))
    for n, (a, b) in enumerate(zip(x, y, strict=True)):
        if n % 200 == 0:
            progress.step(n / max(len(x), 1), "colouring stars")
        x0, x1 = max(int(a) - reach, 0), min(int(a) + reach + 1, shape[1])
        y0, y1 = max(int(b) - reach, 0), min(int(b) + reach + 1, shape[0])
        if x0 >= x1 or y0 >= y1:
            continue
        away = (np.arange(x0, x1) - a) ** 2 + ((np.arange(y0, y1) - b) ** 2)[:, None]
        share = (max(light[n], 1e-30) * (1 + away / (0.6 * width) ** 2) ** -2.5).astype(np.float32)
        total[y0:y1, x0:x1] += share
        for c in range(3):
            out[c, y0:y1, x0:x1] += share * np.float32(ratio[c, n])
    return np.asarray(out / total, np.float32)

"""Stacks of one channel pooled, each by what it is worth."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import cv2
import numpy as np
from numpy.typing import NDArray

from ..measure.run import check_same_shape
from ..model.errors import InputError
from ..model.measures import LargeScale
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.poly import Poly
from .pairs import METHOD as PAIRS
from .pairs import told_by_pairs
from .quick import STEEPNESS, combine_mapped
from .scale import FluxScale, KnownStars, difference_surface, flux_scale, measure_stars
from .whole import REACH

_FULL: Final = 0.92  # of the top value: a core from here on is no measure of light
_TILE_COLUMNS, _TILE_BYTES = 512, 3_000_000
"""Stacks are combined in tiles so wide, of so many bytes: what a processor keeps at hand."""
USELESS: Final = 0.015
_STEEPEST: Final = 1.5


@dataclass(frozen=True)
class Part:
    """One stack of a pool: its flux over the reference's, noise on large scales in its own units,
    share of the weight, share of its pixels left out; ``loss`` of SNR, as a share, without it (of
    one left out: what it would bring).
    """

    label: str
    file: Path | None
    flux: FluxScale
    sigma_eff: float
    fwhm_px: float | None
    weight: float
    rejected: float = 0.0
    loss: float = 0.0


@dataclass(frozen=True)
class Pool:
    """The pooled plane (H, W) in the reference's units. ``alone`` and ``together`` are the inverse
    noise of the best stack and of all, at one flux: their ratio is what pooling gains in SNR.
    ``rejected`` (H, W) is how many stacks were left out at each pixel.
    """

    data: F32
    parts: tuple[Part, ...]
    reference: int
    alone: float
    together: float
    warnings: tuple[str, ...]
    rejected: NDArray[np.uint8]

    @property
    def noise(self) -> LargeScale:
        """Large-scale noise of the pooled plane, as its parts add up."""
        parts = [p.weight * p.sigma_eff / p.flux.scale for p in self.parts]
        return LargeScale(float(np.sqrt(np.sum(np.square(parts)))), PAIRS)


def pool(
    pictures: Sequence[Picture],
    power: float = 0.0,
    progress: Progress = SILENT,
    known: Sequence[KnownStars] | None = None,
    out: Collection[int] = (),
) -> Pool:
    """Pool mono stacks on one grid. ``power`` of the star width ratio in the weights: 0 for nebula,
    2 for stars; ``known`` saves the measuring where it was done; ``out`` are places of stacks that
    are only compared.

    Raises ShapeMismatch, NotEnoughData, InputError for fewer than two.
    """
    if len(pictures) - len(set(out)) < 2:
        raise InputError("There is nothing to pool", do="Give two stacks or more")
    check_same_shape((p.label, p) for p in pictures)
    if known is None:
        known = []
        for number, picture in enumerate(pictures):
            progress.step(0.5 * number / len(pictures), f"measuring {picture.label}")
            known.append(measure_stars(picture))
    inside = np.array([n not in out for n in range(len(pictures))])
    known, reference, scales = _scales(pictures, known, inside, progress)
    weights = _weights(known, scales, power)
    surfaces = [
        None if n == reference else difference_surface(k, known[reference], s.scale)
        for n, (k, s) in enumerate(zip(known, scales, strict=True))
    ]
    used = [n for n in range(len(pictures)) if inside[n]]
    data, gone, lost = _bands(
        [pictures[n] for n in used],
        [known[n] for n in used],
        [scales[n] for n in used],
        [surfaces[n] for n in used],
        weights[inside],
        progress.part(0.6, 1.0),
    )
    share = np.where(inside, weights, 0) / weights[inside].sum()
    worth = np.array([(s.scale / k.noise.best) ** 2 for s, k in zip(scales, known, strict=True)])
    shares = dict(zip(used, lost, strict=True))
    parts = tuple(
        Part(
            p.label,
            p.file,
            s,
            one.noise.best,
            one.stars.fwhm_px,
            float(share[n]),
            float(shares.get(n, 0.0)),
            _loss(worth, inside, n),
        )
        for n, (p, s, one) in enumerate(zip(pictures, scales, known, strict=True))
    )
    warnings = [s.warning for s in scales if s.warning]
    warnings += [
        f"{p.label} adds next to nothing: {100 * p.weight:.1f} % of the weight."
        for n, p in enumerate(parts)
        if inside[n] and p.weight < USELESS
    ]
    warnings += [w for p in pictures for w in p.warnings]
    return Pool(
        data,
        parts,
        reference,
        float(np.sqrt(worth[inside].max())),
        float(np.sqrt(worth[inside].sum())),
        tuple(warnings),
        gone,
    )


def _loss(worth: np.ndarray, inside: np.ndarray, n: int) -> float:
    """Share of the pool's SNR that goes with a stack; of one that is out, the share that it would
    bring.
    """
    total = float(worth[inside].sum())
    return (
        float(1 - np.sqrt(1 - worth[n] / total))
        if inside[n]
        else float(np.sqrt(1 + worth[n] / total) - 1)
    )


def _scales(
    pictures: Sequence[Picture], known: Sequence[KnownStars], inside: np.ndarray, progress: Progress
) -> tuple[list[KnownStars], int, list[FluxScale]]:
    """Noise as the stacks' differences tell it, the stack with the largest flux over noise as
    reference, and all fluxes over its.
    """

    def against(base: int, known: Sequence[KnownStars]) -> list[FluxScale]:
        out = []
        for n, picture in enumerate(pictures):
            progress.step(0.5 + 0.05 * n / len(pictures), f"comparing {picture.label}")
            out.append(
                FluxScale(1.0, 0.0, "reference")
                if n == base
                else flux_scale(
                    picture.data,
                    known[n],
                    pictures[base].data,
                    known[base],
                    (picture.header.saturation, pictures[base].header.saturation),
                    picture.label,
                )
            )
        return out

    counts = [one.stars.count if ok else -1 for one, ok in zip(known, inside, strict=True)]
    base = int(np.argmax(counts))
    scales = against(base, known)
    used = [n for n, ok in enumerate(inside) if ok]
    told = told_by_pairs(pictures, known, scales, base, used)
    worth = [s.scale / k.noise.best for s, k in zip(scales, told, strict=True)]
    best = int(np.argmax(np.where(inside, worth, -1.0)))
    return told, best, scales if best == base else against(best, told)


def _weights(known: Sequence[KnownStars], scales: Sequence[FluxScale], power: float) -> np.ndarray:
    weights = np.array([(s.scale / k.noise.best) ** 2 for s, k in zip(scales, known, strict=True)])
    if power:
        widths = np.array([one.stars.fwhm_px or np.nan for one in known])
        weights = weights * np.nan_to_num((np.nanmin(widths) / widths) ** power, nan=1.0)
    return weights


def _bands(
    pictures: Sequence[Picture],
    known: Sequence[KnownStars],
    scales: Sequence[FluxScale],
    surfaces: Sequence[Poly | None],
    weights: np.ndarray,
    progress: Progress,
) -> tuple[F32, NDArray[np.uint8], np.ndarray]:
    """The pooled plane, how many were left out at each pixel, and the share of each stack's pixels
    that were.
    """
    shape = pictures[0].shape
    columns = min(shape[1], _TILE_COLUMNS)
    rows = int(np.clip(_TILE_BYTES // (len(pictures) * columns * 4), 32, 256))
    noise = np.array([k.noise.sigma_px / s.scale for k, s in zip(known, scales, strict=True)])
    steepness = _steepness(known)
    out, gone = np.empty(shape, np.float32), np.empty(shape, np.uint8)
    lost = seen = np.zeros(len(pictures))

    def work(band: tuple[int, int]) -> tuple[int, int, F32, Mask, Mask]:
        y0, y1 = max(band[0] - REACH, 0), min(band[1] + REACH, shape[0])
        values = np.empty((len(pictures), y1 - y0, shape[1]), np.float32)
        for row, picture, scale in zip(values, pictures, scales, strict=True):
            np.divide(picture.data[y0:y1], np.float32(scale.scale), out=row)
        if any(p.header.saturation is not None for p in pictures):
            _leave_out_full(values, pictures, y0, y1)
        for n, surface in enumerate(surfaces):
            if surface is not None:
                values[n] -= surface.rows(y0, y1, shape[1])
        own = slice(band[0] - y0, band[1] - y0)
        parts = []
        for left, right in row_bands(shape[1], columns):  # small enough for the processor's cache
            x0, x1 = max(left - REACH, 0), min(right + REACH, shape[1])
            tile = np.ascontiguousarray(values[:, :, x0:x1], np.float32)
            inner = (..., own, slice(left - x0, right - x0))
            made = combine_mapped(tile, noise, weights, steepness)
            parts.append([part[inner] for part in made])
        plane, away, here = (np.concatenate(p, axis=-1) for p in zip(*parts, strict=True))
        return (*band, plane, away, here)

    for y0, y1, plane, away, here in ordered_parallel(work, row_bands(shape[0], rows), 2, ahead=1):
        progress.step(y1 / shape[0], "pooling")
        out[y0:y1], gone[y0:y1] = plane, away.sum(0)
        lost, seen = lost + away.sum((1, 2)), seen + here.sum((1, 2))
    return out, gone, lost / np.maximum(seen, 1)


def _steepness(known: Sequence[KnownStars]) -> float:
    """Share of the local range that stacks may differ by: peaks of the sharpest stand over those of
    the softest as the squares of their widths.
    """
    widths = [one.stars.fwhm_px for one in known if one.stars.fwhm_px]
    if not widths:
        return STEEPNESS
    return min(STEEPNESS + ((max(widths) / min(widths)) ** 2 - 1) / 2, _STEEPEST)


def _leave_out_full(
    values: NDArray[np.float32], pictures: Sequence[Picture], y0: int, y1: int
) -> None:
    """Where a stack's core is full and another's is not, the full one says nothing; where all are,
    the highest says most. In place.
    """
    full = np.stack([_full(p, y0, y1) for p in pictures])
    if full.any():
        everywhere = full.all(0)
        values[full & ~everywhere] = np.nan
        values[:, everywhere] = np.max(values[:, everywhere], axis=0, initial=-np.inf)


def _full(picture: Picture, y0: int, y1: int) -> Mask:
    """Pixels of rows that are full, or touched one when they were resampled."""
    top = picture.header.saturation
    height = picture.shape[0]
    if top is None:
        return np.zeros((y1 - y0, picture.shape[1]), bool)
    first, last = max(y0 - 1, 0), min(y1 + 1, height)
    hot = np.nan_to_num(picture.data[first:last]) >= np.float32(_FULL * top)
    if hot.any():
        hot = cv2.dilate(hot.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    return np.asarray(hot[y0 - first : y1 - first])


def pooled_header(pictures: Sequence[Picture], made: Pool) -> Picture:
    """The pooled plane as a picture: hours and subs added up, the rest as in the reference."""
    base = pictures[made.reference]
    totals = [p.header.total_s for p in pictures]
    subs = [p.header.subs for p in pictures]
    stations = list(dict.fromkeys(p.header.station for p in pictures if p.header.station))
    header = replace(
        base.header,
        total_s=sum(t for t in totals if t) or None,
        subs=sum(n for n in subs if n) or None,
        station=", ".join(stations) or None,
        exposure_s=base.header.exposure_s,
    )
    return Picture(made.data, header)

"""Stacks of one channel pooled, each by what it is worth."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ..measure.run import check_same_shape
from ..model.errors import InputError
from ..model.planes import F32, Picture
from ..model.progress import SILENT, Progress
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.poly import Poly
from .quick import combine
from .scale import FluxScale, Known, difference_surface, flux_scale, know

_BAND_BYTES: Final = 120_000_000
USELESS: Final = 0.01


@dataclass(frozen=True)
class Part:
    """One stack of a pool: its flux over the reference's, noise on large scales in its own units, share of the weight,
    share of its pixels left out."""

    label: str
    file: Path | None
    flux: FluxScale
    sigma_eff: float
    fwhm_px: float | None
    weight: float
    rejected: float = 0.0


@dataclass(frozen=True)
class Pool:
    """The pooled plane (H, W) in the reference's units. ``alone`` and ``together`` are the inverse noise of the best
    stack and of all, at one flux: their ratio is what pooling gains in SNR."""

    data: F32
    parts: tuple[Part, ...]
    reference: int
    alone: float
    together: float
    warnings: tuple[str, ...]


def pool(pictures: Sequence[Picture], power: float = 0.0, progress: Progress = SILENT) -> Pool:
    """Pool mono stacks on one grid. ``power`` of the star width ratio in the weights: 0 for nebula, 2 for stars.

    Raises ShapeMismatch, NotEnoughData, InputError for fewer than two.
    """
    if len(pictures) < 2:
        raise InputError("There is nothing to pool", do="Give two stacks or more")
    check_same_shape((p.label, p) for p in pictures)
    known = []
    for number, picture in enumerate(pictures):
        progress.step(0.5 * number / len(pictures), f"measuring {picture.label}")
        known.append(know(picture))
    reference, scales = _scales(pictures, known, progress)
    weights = _weights(known, scales, power)
    surfaces = [None if n == reference else difference_surface(k, known[reference], s.scale)
                for n, (k, s) in enumerate(zip(known, scales, strict=True))]
    data, lost = _bands(pictures, known, scales, surfaces, weights, progress.part(0.6, 1.0))
    share = weights / weights.sum()
    parts = tuple(Part(p.label, p.file, s, one.noise.best, one.stars.fwhm_px, float(w), float(r))
                  for p, s, one, w, r in zip(pictures, scales, known, share, lost, strict=True))
    worth = np.array([(s.scale / k.noise.best) ** 2 for s, k in zip(scales, known, strict=True)])
    warnings = [s.warning for s in scales if s.warning]
    warnings += [f"{p.label} adds next to nothing: {100 * p.weight:.1f} % of the weight." for p in parts
                 if p.weight < USELESS]
    warnings += [w for p in pictures for w in p.warnings]
    return Pool(data, parts, reference, float(np.sqrt(worth.max())), float(np.sqrt(worth.sum())), tuple(warnings))


def _scales(pictures: Sequence[Picture], known: Sequence[Known],
            progress: Progress) -> tuple[int, list[FluxScale]]:
    """The stack with the largest flux over noise as reference, and all fluxes over its."""
    def against(base: int) -> list[FluxScale]:
        out = []
        for n, picture in enumerate(pictures):
            progress.step(0.5 + 0.05 * n / len(pictures), f"comparing {picture.label}")
            out.append(FluxScale(1.0, 0.0, "reference") if n == base else flux_scale(
                picture.data, known[n], pictures[base].data, known[base],
                (picture.header.saturation, pictures[base].header.saturation), picture.label))
        return out

    first = against(int(np.argmax([one.stars.count for one in known])))
    best = int(np.argmax([s.scale / k.noise.best for s, k in zip(first, known, strict=True)]))
    return (best, first) if first[best].origin == "reference" else (best, against(best))


def _weights(known: Sequence[Known], scales: Sequence[FluxScale], power: float) -> np.ndarray:
    weights = np.array([(s.scale / k.noise.best) ** 2 for s, k in zip(scales, known, strict=True)])
    if power:
        widths = np.array([one.stars.fwhm_px or np.nan for one in known])
        weights = weights * np.nan_to_num((np.nanmin(widths) / widths) ** power, nan=1.0)
    return weights


def _bands(pictures: Sequence[Picture], known: Sequence[Known], scales: Sequence[FluxScale],
           surfaces: Sequence[Poly | None], weights: np.ndarray, progress: Progress) -> tuple[F32, np.ndarray]:
    shape = pictures[0].shape
    rows = int(np.clip(_BAND_BYTES // (len(pictures) * shape[1] * 4 * 4), 8, 256))
    noise = np.array([k.noise.sigma_px / s.scale for k, s in zip(known, scales, strict=True)])
    out = np.empty(shape, np.float32)
    lost = seen = np.zeros(len(pictures))

    def work(band: tuple[int, int]) -> tuple[int, int, F32, np.ndarray, np.ndarray]:
        y0, y1 = band
        values = np.stack([p.data[y0:y1] / np.float32(s.scale) for p, s in zip(pictures, scales, strict=True)])
        for n, surface in enumerate(surfaces):
            if surface is not None:
                values[n] -= _rows(surface, y0, y1, shape)
        return (*band, *combine(values.astype(np.float32), noise, weights))

    for y0, y1, plane, gone, here in ordered_parallel(work, row_bands(shape[0], rows), 2, ahead=1):
        progress.step(y1 / shape[0], "pooling")
        out[y0:y1] = plane
        lost, seen = lost + gone, seen + here
    return out, lost / np.maximum(seen, 1)


def _rows(surface: Poly, y0: int, y1: int, shape: tuple[int, int]) -> F32:
    """Rows of a surface that was fitted to whole bins, over the whole frame."""
    y, x = np.mgrid[y0:y1, 0 : shape[1] : 8].astype(float)
    coarse = surface.at(x.ravel(), y.ravel()).reshape(x.shape)
    columns = np.arange(shape[1]) / 8
    left = np.minimum(columns.astype(int), coarse.shape[1] - 2) if coarse.shape[1] > 1 else np.zeros(shape[1], int)
    if coarse.shape[1] < 2:
        return np.repeat(coarse, shape[1], 1).astype(np.float32)
    part = columns - left
    return (coarse[:, left] * (1 - part) + coarse[:, left + 1] * part).astype(np.float32)


def pooled_header(pictures: Sequence[Picture], made: Pool) -> Picture:
    """The pooled plane as a picture: hours and subs added up, the rest as in the reference."""
    base = pictures[made.reference]
    totals = [p.header.total_s for p in pictures]
    subs = [p.header.subs for p in pictures]
    stations = list(dict.fromkeys(p.header.station for p in pictures if p.header.station))
    same = len({p.header.debayer for p in pictures}) == 1
    header = replace(base.header, total_s=sum(t for t in totals if t) or None, subs=sum(n for n in subs if n) or None,
                     station=", ".join(stations) or None, debayer=base.header.debayer if same else None,
                     exposure_s=base.header.exposure_s)
    return Picture(made.data, header)



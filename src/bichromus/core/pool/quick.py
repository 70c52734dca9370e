"""A quick stack: frames laid on one grid, each by its worth, outliers left out; memory is bounded
by the band.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..align.rigid import Rigid
from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask
from ..model.progress import SILENT, Progress
from ..numerics.bands import ordered_parallel, row_bands
from .whole import grown

KAPPA: Final = 5.0
_CAREFUL: Final = 0.75
STEEPNESS: Final = 0.1
"""Of the local range: near stars subs of one rig differ by their seeing."""
_ROUNDS: Final = 4
_DARKEST: Final = 0.02  # share of light below which a frame tells nothing
_BAND_BYTES: Final = 180_000_000
Rows = Callable[[int, int, int, int], F32]
"""y0, y1, x0, x1 of a frame to its values there; what lies outside is cut off."""


@dataclass(frozen=True)
class FrameLayer:
    """One frame: its size, its values, where it lies, its sky level and noise, the light that came
    through (0 to 1), and its worth. ``phase`` moves the sampling of a mosaic's plane, in its
    pixels.
    """

    shape: tuple[int, int]
    rows: Rows
    place: Rigid
    background: float
    noise: float
    light: float
    worth: float
    phase: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class QuickStack:
    """``data`` (H, W), NaN where no frame lies; ``rejected`` is the share of values left out."""

    data: F32
    rejected: float


def quick_stack(
    layers: Sequence[FrameLayer], shape: tuple[int, int], progress: Progress = SILENT
) -> QuickStack:
    """Weighted mean with leave-one-out rejection, in the units of a frame with full light, sky
    taken off.

    Raises NotEnoughData without a frame of any worth.
    """
    used = [layer for layer in layers if layer.worth > 0 and layer.light > _DARKEST]
    if not used:
        raise NotEnoughData("There is no sub worth stacking", do="Keep at least one good sub")
    out = np.full(shape, np.nan, np.float32)
    rows = int(np.clip(_BAND_BYTES // (len(used) * shape[1] * 4 * 4), 8, 256))
    lost = total = 0

    def work(band: tuple[int, int]) -> tuple[int, int, F32, int, int]:
        values = np.stack([_resampled(layer, band, shape[1]) for layer in used])
        plane, gone, seen = combine(
            values,
            np.array([layer.noise / layer.light for layer in used]),
            np.array([layer.worth for layer in used]),
        )
        return (*band, plane, int(gone.sum()), int(seen.sum()))

    for y0, y1, plane, gone, seen in ordered_parallel(work, row_bands(shape[0], rows), 2, ahead=1):
        progress.step(y1 / shape[0], "stacking")
        out[y0:y1] = plane
        lost, total = lost + gone, total + seen
    return QuickStack(out, lost / max(total, 1))


def _resampled(layer: FrameLayer, band: tuple[int, int], width: int) -> F32:
    """A band of the output as this frame sees it; NaN outside."""
    corners = layer.place.source(
        np.array([0.0, width, 0.0, width]), np.array([band[0], band[0], band[1], band[1]], float)
    )
    x0, x1 = (int(f(corners[0])) for f in (np.min, np.max))
    y0, y1 = (int(f(corners[1])) for f in (np.min, np.max))
    x0, y0 = max(x0 - 4, 0), max(y0 - 4, 0)
    x1, y1 = min(x1 + 5, layer.shape[1]), min(y1 + 5, layer.shape[0])
    size = (width, band[1] - band[0])
    if x1 - x0 < 4 or y1 - y0 < 4:
        return np.full(size[::-1], np.nan, np.float32)
    part = (layer.rows(y0, y1, x0, x1) - np.float32(layer.background)) / np.float32(layer.light)
    c, s = np.cos(layer.place.angle), np.sin(layer.place.angle)
    dx, dy = layer.place.dx + layer.phase[0] - x0, layer.place.dy + layer.phase[1] - y0
    move = np.array([[c, -s, dx - s * band[0]], [s, c, dy + c * band[0]]])
    found = np.asarray(
        cv2.warpAffine(
            part,
            move,
            size,
            flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        ),
        np.float32,
    )
    x, y = np.arange(size[0])[None, :], np.arange(size[1])[:, None]
    u, v = (m[0] * x + m[1] * y + m[2] for m in move)
    inside = (
        (u + x0 >= 0)
        & (u + x0 <= layer.shape[1] - 1)
        & (v + y0 >= 0)
        & (v + y0 <= layer.shape[0] - 1)
    )
    return np.where(inside, found, np.float32(np.nan))


def combine(
    values: F32, noise: np.ndarray, worth: np.ndarray
) -> tuple[F32, np.ndarray, np.ndarray]:
    """Weighted mean of (N, H, W) with NaN left out; how many values of each were rejected, and how
    many there were.
    """
    mean, lost, seen = combine_mapped(values, noise, worth)
    return mean, lost.sum((1, 2)), seen.sum((1, 2))


def combine_mapped(
    values: F32, noise: np.ndarray, worth: np.ndarray, steepness: float = STEEPNESS
) -> tuple[F32, Mask, Mask]:
    """Weighted mean of (N, H, W) with NaN left out; which values were rejected, and which there
    were (N, H, W).

    A value goes when it lies more than 5 sigma from the weighted mean of the others, the worst one
    first. Sigma is the known noise, raised where all values scatter more (photon noise of bright
    parts) and where the picture is steep, by a share ``steepness`` of its local range.
    """
    seen = np.isfinite(values)
    whole = bool(seen.all())
    gone = np.zeros(values.shape, bool)
    share = worth.astype(np.float32)
    if len(values) >= 3:
        middle = _middle(values, whole)
        scatter, steep = _scatter(values, middle, noise, whole) ** 2, _range(middle) ** 2
        steep *= np.float32(steepness**2)
        known = noise.astype(np.float32) ** 2
        rows, columns = np.nonzero(_doubted(values, seen, middle, share, known, scatter, steep))
        if rows.size:
            gone[:, rows, columns] = _rejected(
                values[:, rows, columns], share, known, scatter[rows, columns], steep[rows, columns]
            )
            calm = _mean(values, seen & ~gone, share)
            gone = grown(values, calm, gone, np.sqrt(known[:, None, None] * scatter + steep))
    if whole:
        mean = np.einsum("n,nhw->hw", share / share.sum(), values, dtype=np.float32)
        rows, columns = np.nonzero(gone.any(0))
        if rows.size:
            mean[rows, columns] = _mean(values[:, rows, columns], ~gone[:, rows, columns], share)
        return mean, gone, seen
    return _mean(values, seen & ~gone, share), gone, seen


def _mean(values: F32, kept: Mask, share: F32) -> F32:
    weights = np.where(kept, share.reshape(-1, *([1] * (values.ndim - 1))), np.float32(0))
    total = weights.sum(0)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(
            total > 0, (weights * np.where(kept, values, np.float32(0))).sum(0) / total, np.nan
        ).astype(np.float32)


def _doubted(
    values: F32, seen: Mask, middle: F32, share: F32, known: F32, scatter: F32, steep: F32
) -> Mask:
    """Pixels that are worth a closer look: a missing value stands in the middle, and the limit is a
    little lower, as the others then seem to agree better than they do.
    """
    if seen.all():
        return _suspects(values, share, known, scatter, steep, KAPPA)
    whole = np.where(seen, values, np.nan_to_num(middle))
    found = _suspects(whole, share, known, scatter, steep, _CAREFUL * KAPPA)
    return np.asarray(found & (seen.sum(0) > 2), np.bool_)


def _suspects(values: F32, share: F32, known: F32, scatter: F32, steep: F32, kappa: float) -> Mask:
    """Pixels where some value lies too far from the mean of the others; no value is missing."""
    total, summed = float(share.sum()), np.einsum("n,nhw->hw", share, values, dtype=np.float32)
    noise, flat = float((share**2 * known).sum()), float((share**2).sum())
    out = np.zeros(values.shape[1:], bool)
    for n, value in enumerate(values):
        weight = float(share[n])
        rest = total - weight
        if rest <= 0 or weight == 0:
            continue
        off = value * np.float32(total / rest) - summed * np.float32(1 / rest)
        np.square(off, out=off)
        # variance of a value, and of the mean of the others: known noise times the scatter, and the
        # steepness
        a = known[n] + (noise - weight * weight * known[n]) / rest**2
        b = 1 + (flat - weight * weight) / rest**2
        limit = scatter * np.float32(kappa**2 * a)
        limit += steep * np.float32(kappa**2 * b)
        out |= off > limit
    return out


def _rejected(values: F32, share: F32, known: F32, scatter: F32, steep: F32) -> Mask:
    """Which of (N, K) values go, the worst of each place first."""
    seen = np.isfinite(values)
    weights = np.where(seen, share[:, None], np.float32(0))[:, :, None]
    filled = np.where(seen, values, np.float32(0))[:, :, None]
    variance = (known[:, None] * scatter + steep)[:, :, None]
    for _ in range(_ROUNDS):
        worst = _worst(filled, weights, variance)
        if worst is None:
            break
        weights[worst] = 0
    return np.asarray(seen & (weights[:, :, 0] <= 0) & (share[:, None] > 0))


def _worst(values: F32, weights: F32, variance: F32) -> tuple[np.ndarray, ...] | None:
    """Of each pixel the value furthest from the mean of the others, where that is too far; two
    always stay.
    """
    weighted = weights * values
    total, summed, spread = weights.sum(0), weighted.sum(0), (weights * weights * variance).sum(0)
    top = np.zeros(total.shape, np.float32)
    which = np.zeros(total.shape, np.intp)
    for n in range(len(values)):  # one frame at a time: no array of all frames is made anew
        rest = total - weights[n]
        with np.errstate(invalid="ignore", divide="ignore"):
            off = values[n] - (summed - weighted[n]) / rest
            z = (
                off
                * off
                / (variance[n] + (spread - weights[n] * weights[n] * variance[n]) / (rest * rest))
            )
        z[(weights[n] == 0) | (rest <= 0)] = 0
        higher = z > top
        top[higher] = z[higher]
        which[higher] = n
    rows, columns = np.nonzero(top > KAPPA**2)
    if rows.size:
        enough = (weights[:, rows, columns] > 0).sum(0) > 2
        rows, columns = rows[enough], columns[enough]
    return (which[rows, columns], rows, columns) if rows.size else None


def _scatter(values: F32, middle: F32, noise: np.ndarray, whole: bool) -> F32:
    """How many times more the values of a place scatter than their noise says, at least 1, smooth
    over 9 pixels.
    """
    away = np.abs(values - middle)
    away /= noise.astype(np.float32)[:, None, None]
    typical = np.nan_to_num(_middle(away, whole), nan=0.6745) / np.float32(0.6745)
    return np.maximum(np.asarray(cv2.blur(typical.astype(np.float32), (9, 9)), np.float32), 1)


def _middle(values: F32, whole: bool) -> F32:
    """Median over the first axis without NaN, the lower one of two middles; ``whole``: there is no
    NaN.
    """
    if whole and len(values) == 3:
        low, high = np.minimum(values[0], values[1]), np.maximum(values[0], values[1])
        return np.maximum(low, np.minimum(high, values[2]))
    if whole:
        return np.asarray(
            np.partition(values, (len(values) - 1) // 2, 0)[(len(values) - 1) // 2], np.float32
        )
    order = np.sort(values, 0)  # NaN come last
    place = np.maximum((np.isfinite(values).sum(0) - 1) // 2, 0)
    return np.asarray(np.take_along_axis(order, place[None], 0)[0], np.float32)


def _range(middle: F32) -> F32:
    """Of the 3 x 3 pixels about each."""
    level = np.nan_to_num(middle)
    kernel = np.ones((3, 3), np.uint8)
    return np.asarray(cv2.dilate(level, kernel) - cv2.erode(level, kernel), np.float32)

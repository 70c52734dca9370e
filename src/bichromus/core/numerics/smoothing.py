"""Gaussian smoothing and filling of unseen pixels."""

from __future__ import annotations

from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask
from .bands import filtered, in_parallel, row_bands

_BAND_ROWS: Final = 256
_BLOCKS: Final = 3.0  # in the sigma of a broad blur


def gaussian(plane: F32, sigma_px: float) -> F32:
    """Gaussian blur with mirrored edges. ``plane`` must be finite."""
    if sigma_px <= 0:
        return plane
    size = 2 * int(np.ceil(4 * sigma_px)) + 1
    size = min(size, 2 * (min(plane.shape) - 1) + 1)

    def blurred(part: F32) -> F32:
        found = cv2.GaussianBlur(part, (size, size), sigma_px, borderType=cv2.BORDER_REFLECT_101)
        return np.asarray(found, np.float32)

    return filtered(plane, blurred, size // 2)


def broad(plane: F32, sigma_px: float) -> F32:
    """A Gaussian blur, of a wide one on means over blocks a third of its width: within a percent
    of its sigma everywhere.
    """
    factor = 2 ** int(np.log2(max(sigma_px / _BLOCKS, 1.0)))
    if factor == 1 or min(plane.shape) < 4 * factor:
        return gaussian(plane, sigma_px)
    height, width = plane.shape
    down, right = -height % factor, -width % factor
    whole = cv2.copyMakeBorder(plane, 0, down, 0, right, cv2.BORDER_REFLECT_101)
    size = whole.shape[1] // factor, whole.shape[0] // factor
    small = np.asarray(cv2.resize(whole, size, interpolation=cv2.INTER_AREA), np.float32)
    # blocks and what is drawn between them widen it, too
    left = sigma_px**2 - (factor**2 - 1) / 12 - factor**2 / 6
    small = gaussian(small, float(np.sqrt(left)) / factor)
    wide = cv2.resize(small, whole.shape[::-1], interpolation=cv2.INTER_LINEAR)
    return np.asarray(wide, np.float32)[:height, :width]


def smooth_mosaic(data: F32) -> F32:
    """The light of a mosaic (H, W) without its colours: every pixel sees red, green, green and blue
    in equal parts.
    """
    filled = fill(data, ~np.isfinite(data))
    kernel = np.outer([1, 2, 1], [1, 2, 1]).astype(np.float32) / 16
    return np.asarray(
        cv2.filter2D(filled, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101), np.float32
    )


def fill(plane: F32, missing: Mask) -> F32:
    """A copy with ``missing`` pixels filled smoothly from their surroundings (push-pull
    pyramid).
    """
    if not missing.any():
        return plane
    weight = (~missing).astype(np.float32)
    if not weight.any():
        return np.zeros_like(plane)
    out = np.where(missing, np.float32(0), plane).astype(np.float32)
    # what is seen stays as it is, so that the finest level is only drawn from the next one
    np.copyto(out, _from_coarser(out, weight), where=missing)
    return out


def filled_means(plane: F32, clear: Mask, factor: int) -> tuple[F32, F32]:
    """Means (H // factor, W // factor) of the ``clear`` pixels of a plane (H, W) over blocks,
    filled smoothly where there are few or none; and the share of each block that is clear.
    """
    rows, columns = (n // factor for n in plane.shape)
    if not rows or not columns:
        raise ValueError(f"no block of {factor} pixels in a plane of {plane.shape}")
    value, share = np.empty((rows, columns), np.float32), np.empty((rows, columns), np.float32)

    def work(band: tuple[int, int]) -> None:
        inside = np.s_[band[0] * factor : band[1] * factor, : columns * factor]
        seen = clear[inside]
        light = np.where(seen, plane[inside], np.float32(0))
        size = columns, band[1] - band[0]
        for out, part in ((value, light), (share, seen.astype(np.float32))):
            out[band[0] : band[1]] = cv2.resize(part, size, interpolation=cv2.INTER_AREA)

    in_parallel(work, row_bands(rows, max(1, _BAND_ROWS // factor)))
    if not share.any():
        return value, share
    return (value if share.min() >= 1 else _push_pull(value, share)), share


def _push_pull(value: F32, weight: F32) -> F32:
    """``value`` is already multiplied by ``weight``; returns a plane without holes."""
    height, width = value.shape
    if weight.min() > 0 or min(height, width) <= 2:
        total = float(weight.sum())
        mean = float(value.sum()) / total if total > 0 else 0.0
        return np.where(weight > 0, value / np.maximum(weight, 1e-12), mean).astype(np.float32)
    wide = _from_coarser(value, weight)
    share = np.minimum(weight, 1)
    return (value / np.maximum(weight, 1e-12) * share + wide * (1 - share)).astype(np.float32)


def _from_coarser(value: F32, weight: F32) -> F32:
    """A plane as the next coarser level tells it."""
    height, width = value.shape
    half = (width + 1) // 2, (height + 1) // 2
    small, share = (
        np.asarray(cv2.resize(v, half, interpolation=cv2.INTER_AREA), np.float32)
        for v in (value, weight)
    )
    wide = cv2.resize(_push_pull(small, share), (width, height), interpolation=cv2.INTER_LINEAR)
    return np.asarray(wide, np.float32)

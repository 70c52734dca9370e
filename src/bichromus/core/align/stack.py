"""Stacks laid on the grid of a reference: their stars, the map, the part they share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final, Literal

import cv2
import numpy as np

from ..measure.centroids import centroids
from ..measure.linear import require_linear
from ..measure.stars import find_stars
from ..model.errors import InputError, NotEnoughData
from ..model.measures import Stars
from ..model.planes import F32, Picture
from ..model.progress import SILENT, Progress
from ..numerics.placement import Box
from ..numerics.robust import MAD_TO_SIGMA
from ..numerics.smoothing import fill, smooth_mosaic
from .crop import largest_box
from .match import Match, match
from .models import F64, Points, Warp
from .resample import Resampled, resample

Crop = Literal["common", "reference", "union"]
_MOST: Final = 2000
_CELLS: Final = 800
LITTLE: Final = 0.25
"""Share of the reference below which the common part is worth a warning."""
_FULL: Final = 0.9  # of the top value: a star's centroid is off where its core has clipped
_SMALLEST_BOX_PX: Final = 32
_MARGIN: Final = 0.05  # of a frame's size: a footprint is sought on a coarse grid
_SAME_SCALE: Final = (0.8, 1.25)  # a cubic spline at about one scale widens noise in a known way


@dataclass(frozen=True)
class StarList:
    """Stars of a picture, brightest first, in its own pixels; saturated ones are left out.
    ``found``: all that were found in its full size, as a measure finds them.
    """

    points: Points
    flux: F64
    shape: tuple[int, int]
    width_px: float
    found: Stars | None = None


def star_list(picture: Picture, progress: Progress = SILENT) -> StarList:
    """Find the stars of a stack; of a colour one in the mean of its planes. Raises NotLinear."""
    plane = _one_plane(picture)
    found = find_stars(plane, picture.header.saturation, progress=progress.part(0.1, 0.75))
    require_linear(picture, plane, found)
    width = found.fwhm_px or 3.0
    x, y = (np.array(v[:_MOST], float) for v in (found.x, found.y))
    cx, cy, light = centroids(plane, x, y, width)
    good = np.isfinite(cx) & (light > 0)
    if picture.header.saturation is not None:
        top = (
            np.array(
                [
                    plane[max(int(b) - 1, 0) : int(b) + 2, max(int(a) - 1, 0) : int(a) + 2].max()
                    for a, b in zip(np.nan_to_num(cx), np.nan_to_num(cy), strict=True)
                ]
            )
            if len(cx)
            else np.zeros(0)
        )
        good &= top < _FULL * picture.header.saturation
    order = np.argsort(light[good])[::-1]
    points = cx[good][order], cy[good][order]
    return StarList(points, light[good][order], picture.shape, width, found)


def _one_plane(picture: Picture) -> F32:
    if picture.header.bayer and not picture.colour:
        return smooth_mosaic(picture.data)
    data = picture.data.mean(0) if picture.colour else picture.data
    return fill(np.asarray(data, np.float32), ~np.isfinite(data))


@dataclass(frozen=True)
class Registered:
    """One picture and how it lies on the reference; ``match`` is None for the reference itself."""

    picture: Picture
    match: Match | None

    @property
    def warp(self) -> Warp:
        """How it lies on the grid; as it is where it was not matched."""
        return (
            self.match.warp
            if self.match
            else Warp("affine", np.array([[0.0, 0], [1, 0], [0, 1]]), (0.0, 0.0), 1.0)
        )


def match_lists(reference: StarList, other: StarList, picture: Picture) -> Match:
    """Match a picture to the reference. Raises NotEnoughData with the file's name."""
    try:
        return match(
            reference.points, other.points, reference.flux, other.flux, reference.shape, other.shape
        )
    except NotEnoughData as error:
        raise NotEnoughData(error.what, why=error.why, do=error.do, file=picture.file) from error


def shared_box(registered: Sequence[Registered], crop: Crop) -> tuple[Box, list[str]]:
    """The output box in the reference's pixels, and warnings. Raises InputError when there is no
    common part.
    """
    reference = next(p for p in registered if p.match is None)
    height, width = reference.picture.shape
    if crop == "reference":
        return (0, 0, width, height), []
    left, top, right, bottom = _canvas(registered, (height, width))
    step = max(1, -(-max(right - left, bottom - top) // _CELLS))
    x, y = np.arange(left, right, step, dtype=float), np.arange(top, bottom, step, dtype=float)
    seen = [_seen(p, x, y) for p in registered]
    if crop == "union":
        any_row, any_column = np.any(seen, 0).any(1), np.any(seen, 0).any(0)
        ys, xs = np.flatnonzero(any_row), np.flatnonzero(any_column)
        return (
            left + int(xs[0]) * step,
            top + int(ys[0]) * step,
            min(left + (int(xs[-1]) + 1) * step, right),
            min(top + (int(ys[-1]) + 1) * step, bottom),
        ), []
    common = np.all(seen, 0)
    if step > 1:  # a coarse cell counts when all around it is seen, too
        common = cv2.erode(
            common.astype(np.uint8), np.ones((3, 3), np.uint8), borderValue=1
        ).astype(bool)
    box = largest_box(common, max(15 // step, 1))
    if box is None or min(box[2] - box[0], box[3] - box[1]) * step < _SMALLEST_BOX_PX:
        raise InputError(
            "These pictures have no common part",
            do="Crop to the reference, or leave one out",
            file=registered[-1].picture.file,
        )
    found = (
        left + box[0] * step,
        top + box[1] * step,
        min(left + (box[2] - 1) * step + 1, width),
        min(top + (box[3] - 1) * step + 1, height),
    )
    share = (found[2] - found[0]) * (found[3] - found[1]) / (width * height)
    warnings = (
        [f"The common part is only {100 * share:.0f} % of the reference."] if share < LITTLE else []
    )
    return found, warnings


def _canvas(registered: Sequence[Registered], shape: tuple[int, int]) -> Box:
    """A box around all footprints, in the reference's pixels."""
    height, width = shape
    reach = 2.5
    x, y = np.meshgrid(
        np.linspace(-reach * width, (1 + reach) * width, 121),
        np.linspace(-reach * height, (1 + reach) * height, 121),
    )
    box = [0, 0, width, height]
    for p in registered:
        if p.match is None:
            continue
        u, v = p.warp(x, y)
        h, w = p.picture.shape
        low, high = -_MARGIN, 1 + _MARGIN
        inside = (u > low * w) & (v > low * h) & (u < high * w) & (v < high * h)
        if inside.any():
            box = [
                min(box[0], int(x[inside].min())),
                min(box[1], int(y[inside].min())),
                max(box[2], int(x[inside].max()) + 1),
                max(box[3], int(y[inside].max()) + 1),
            ]
    return box[0], box[1], box[2], box[3]


def _seen(registered: Registered, x: F64, y: F64) -> np.ndarray:
    """Where on a coarse grid of columns and rows a picture has data."""
    u, v = registered.warp.grid(x, y)
    height, width = registered.picture.shape
    inside = (u >= 0) & (v >= 0) & (u <= width - 1) & (v <= height - 1)
    data = registered.picture.data[0] if registered.picture.colour else registered.picture.data
    rows, columns = (
        np.rint(np.where(inside, v, 0)).astype(int),
        np.rint(np.where(inside, u, 0)).astype(int),
    )
    return np.asarray(inside & np.isfinite(data[rows, columns]))


@dataclass(frozen=True)
class ResampledStack:
    """A picture on the output grid."""

    picture: Picture
    noise_factor: float
    sigma_ls_ratio: float
    coverage: float


def resample_stack(registered: Registered, box: Box, progress: Progress = SILENT) -> ResampledStack:
    """Resample a picture into a box of the reference's grid."""
    picture = registered.picture
    x0, y0, x1, y1 = box
    shape = y1 - y0, x1 - x0
    if (
        registered.match is None
        and x0 >= 0
        and y0 >= 0
        and y1 <= picture.shape[0]
        and x1 <= picture.shape[1]
    ):
        data = picture.data[..., y0:y1, x0:x1].copy()
        return ResampledStack(
            _with_header(picture, data, 1.0, False), 1.0, 1.0, float(np.isfinite(data).mean())
        )
    planes = picture.data if picture.colour else picture.data[None]
    parts: list[Resampled] = []
    for number, plane in enumerate(planes):
        part = progress.part(number / len(planes), (number + 1) / len(planes))
        sigma = _pixel_noise(plane)
        parts.append(
            resample(
                plane, registered.warp, shape, sigma, picture.header.saturation, (x0, y0), part
            )
        )
    data = np.stack([p.data for p in parts]) if picture.colour else parts[0].data
    scale = parts[0].scale
    return ResampledStack(
        _with_header(picture, data, scale, True),
        parts[0].noise_factor,
        1 / scale,
        parts[0].coverage,
    )


def _pixel_noise(plane: F32) -> float:
    """Noise from neighbour to neighbour, roughly: it only bounds an undershoot."""
    steps = np.abs(
        plane[::4, 1::4][:, : plane.shape[1] // 4] - plane[::4, ::4][:, : plane.shape[1] // 4]
    )
    return float(MAD_TO_SIGMA * np.nanmedian(steps) / np.sqrt(2)) or 1e-12


def _with_header(picture: Picture, data: F32, scale: float, moved: bool) -> Picture:
    """The header of the result: pixels as large as the reference's; coordinates no longer hold."""
    header = picture.header
    pixel = header.pixel_um * scale if header.pixel_um else None
    changed = replace(
        header,
        pixel_um=pixel,
        wcs=() if moved else header.wcs,
        bayer=None,
    )
    return replace(picture, data=data, header=changed)

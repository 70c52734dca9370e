"""Every usual way from the mosaics of a colour camera to a stack, as the programs of other people
go it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32
from ..model.rig import Rig
from .camera import bayer_sites, expose


@dataclass(frozen=True)
class Way:
    """How a stack was made: ``debayer`` one of own (within a colour), gradients (corrected by the
    other colours), squares (four sites to a pixel) and drops (every site laid where it belongs);
    ``dithered`` between the frames; ``turned`` once more afterwards.
    """

    name: str
    debayer: str
    dithered: bool = False
    turned: bool = False


WAYS: Final = (
    Way("within a colour, one phase", "own"),
    Way("within a colour, dithered and turned", "own", True, True),
    Way("by gradients, one phase", "gradients"),
    Way("by gradients, dithered and turned", "gradients", True, True),
    Way("squares of four", "squares"),
    Way("drizzled", "drops", True),
)
_FRAMES: Final = {"own": 6, "gradients": 6, "squares": 4, "drops": 16}
_TURN: Final = 0.015  # rad
# weights of a linear interpolation that the other colours correct (Malvar, He & Cutler 2004), in
# eighths: the middle; one and two pixels along the row; along the column; the four corners
_GREEN: Final = (4, (2, -1), (2, -1), 0)
_BESIDE: Final = (5, (4, -1), (0, 0.5), -1)
_ACROSS: Final = (6, (0, -1.5), (0, -1.5), 2)


def colour_stack_by(
    way: Way, light: F32, rig: Rig, subs: int, sub_s: float, rng: np.random.Generator
) -> F32:
    """A stack (3, h, w), 0 to 1 of full well, of light (3, H, W) in electrons a second; half the
    size where four sites make a pixel.
    """
    frames = _FRAMES[way.debayer]
    shift = rng.uniform(-2, 2, (frames, 2)) if way.dithered else np.zeros((frames, 2))
    each = max(1, subs // frames)
    step = 2 if way.debayer == "squares" else 1
    total = np.zeros((3, light.shape[1] // step, light.shape[2] // step))
    weight = np.zeros_like(total)
    for dx, dy in shift:
        seen = np.stack([_moved(p, dx, dy) for p in light]) if way.dithered else light
        mosaic = _mosaic(seen, rig, each, sub_s, rng)
        if way.debayer == "drops":
            _lay(total, weight, mosaic, -dx, -dy)
            continue
        whole = _DEBAYERS[way.debayer](mosaic)
        total += [_moved(p, -dx / step, -dy / step) for p in whole] if way.dithered else whole
        weight += 1
    made = (total / np.maximum(weight, 1e-9)).astype(np.float32)
    return np.stack([turned(p) for p in made]) if way.turned else made


def seen_by(way: Way, light: F32) -> F32:
    """Light (H, W) without noise, where a stack of this way has it."""
    if way.debayer == "squares":
        height, width = light.shape
        return np.asarray(light.reshape(height // 2, 2, width // 2, 2).mean((1, 3)), np.float32)
    return turned(light) if way.turned else light


def _mosaic(light: F32, rig: Rig, subs: int, sub_s: float, rng: np.random.Generator) -> F32:
    out = np.zeros((light.shape[1], light.shape[2]), np.float32)
    for plane, colour in zip(light, "RGB", strict=True):
        sites = bayer_sites(out.shape, colour)
        out[sites] = expose(plane[sites], rig, subs, sub_s, rng)
    return out


def _moved(plane: F32, dx: float, dy: float) -> F32:
    return _affine(plane, np.array([[1, 0, dx], [0, 1, dy]]))


def turned(plane: F32) -> F32:
    """A plane (H, W) resampled by a small turn, as registering does."""
    c, s = np.cos(_TURN), np.sin(_TURN)
    return _affine(plane, np.array([[c, -s, 3.4], [s, c, -2.7]]))


def _affine(plane: F32, matrix: np.ndarray) -> F32:
    return np.asarray(
        cv2.warpAffine(
            np.asarray(plane, np.float32),
            matrix,
            (plane.shape[1], plane.shape[0]),
            flags=cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REFLECT,
        ),
        np.float32,
    )


def _filtered(plane: F32, kernel: np.ndarray) -> F32:
    return np.asarray(
        cv2.filter2D(plane, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101), np.float32
    )


def _own(mosaic: F32) -> F32:
    tent = np.outer([0.5, 1, 0.5], [0.5, 1, 0.5])
    planes = []
    for colour in "RGB":
        sites = bayer_sites(mosaic.shape, colour)
        sums = _filtered(np.where(sites, mosaic, 0).astype(np.float32), tent)
        planes.append(np.where(sites, mosaic, sums / _filtered(sites.astype(np.float32), tent)))
    return np.stack(planes)


def _kernel(weights: tuple[float, tuple[float, float], tuple[float, float], float]) -> np.ndarray:
    middle, row, column, corner = weights
    out = np.zeros((5, 5))
    out[2, 2] = middle
    out[2, [1, 3]], out[2, [0, 4]] = row
    out[[1, 3], 2], out[[0, 4], 2] = column
    out[[1, 1, 3, 3], [1, 3, 1, 3]] = corner
    return out / 8


def _gradients(mosaic: F32) -> F32:
    red, blue = (bayer_sites(mosaic.shape, c) for c in "RB")
    row = (np.arange(mosaic.shape[0]) % 2 == 0)[:, None]
    green, beside, below, across = (
        _filtered(mosaic, k)
        for k in (_kernel(_GREEN), _kernel(_BESIDE), _kernel(_BESIDE).T, _kernel(_ACROSS))
    )
    out = [
        np.where(own, mosaic, np.where(other, across, 0))
        for own, other in ((red, blue), (blue, red))
    ]
    sides = ~(red | blue)
    out[0] = np.where(sides, np.where(row, beside, below), out[0])
    out[1] = np.where(sides, np.where(row, below, beside), out[1])
    return np.stack([out[0], np.where(sides, mosaic, green), out[1]]).astype(np.float32)


def _squares(mosaic: F32) -> F32:
    a, b, c, d = (mosaic[y::2, x::2] for y in (0, 1) for x in (0, 1))
    return np.stack([a, (b + c) / 2, d])


def _lay(total: np.ndarray, weight: np.ndarray, mosaic: F32, dx: float, dy: float) -> None:
    """Each site's square, part by part, on the pixels that it covers (Fruchter & Hook 2002)."""
    x0, y0 = int(np.floor(dx)), int(np.floor(dy))
    parts = {
        (y0 + j, x0 + i): abs(1 - j - (dy - y0)) * abs(1 - i - (dx - x0))
        for j in (0, 1)
        for i in (0, 1)
    }
    for plane, colour in enumerate("RGB"):
        sites = bayer_sites(mosaic.shape, colour).astype(np.float32)
        for place, share in parts.items():
            total[plane] += share * np.roll(sites * mosaic, place, (0, 1))
            weight[plane] += share * np.roll(sites, place, (0, 1))


_DEBAYERS: Final = {"own": _own, "gradients": _gradients, "squares": _squares}

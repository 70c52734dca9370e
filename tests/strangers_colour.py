"""Colour stacks as other programs would make them: debayered in five ways, in one phase or
dithered, warped once more; nothing is shared with the simulator that ships.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from strangers import SKY, UNIT, moffat, threads

Array = NDArray[np.float64]
LINES = {"Ha+O3": ((0.84, 0.05), (0.12, 0.80), (0.05, 0.75))}
"""What red, green and blue pass of each line, as that camera does: near the usual table, not it."""
PROCESSES = ("bilinear", "cross-colour", "superpixel", "drizzled")


@dataclass(frozen=True)
class ColourField:
    """A stack (3, H, W), the same without light (its noise alone), and both lines (2, H, W)."""

    stack: NDArray[np.float32]
    noise: NDArray[np.float32]
    lines: NDArray[np.float32]


def colour_field(
    seed: int,
    process: str,
    dithered: bool,
    warped: bool = False,
    shape: tuple[int, int] = (512, 640),
    subs: int = 8,
    response: tuple[tuple[float, float], ...] = LINES["Ha+O3"],
    bright: float = 1.0,
    second: float = 0.4,
) -> ColourField:
    """``bright``: strength of the red nebula, ``second`` that of the green one over it. The noise of
    a sub's pixel is sqrt(subs) sky noises.
    """
    rng = np.random.default_rng(seed)
    red, green = bright * threads(shape, rng), second * bright * threads(shape, rng)
    stars = _stars(shape, rng)
    planes = np.stack(
        [
            a * red + b * green + SKY + s * stars
            for (a, b), s in zip(response, (1.0, 1.2, 0.9), strict=True)
        ]
    )
    total = _stacked(planes, process, dithered, subs, np.random.default_rng(seed + 1), True)
    noise = _stacked(planes, process, dithered, subs, np.random.default_rng(seed + 1), False)
    lines = np.stack([red, green])
    if process == "superpixel":
        lines = lines.reshape(2, shape[0] // 2, 2, shape[1] // 2, 2).mean((2, 4))
    if warped:
        turn = np.array([[0.9998, -0.02, 3.3], [0.02, 0.9998, -2.6]])
        total, noise, lines = (
            np.stack([_warp(p, turn) for p in cube]) for cube in (total, noise, lines)
        )
    return ColourField(*(np.asarray(c, np.float32) * UNIT for c in (total, noise, lines)))


def _stars(shape: tuple[int, int], rng: np.random.Generator) -> Array:
    light = np.zeros(shape)
    yy, xx = np.mgrid[-14:15, -14:15].astype(float)
    for _ in range(160):
        x, y = rng.uniform(16, shape[1] - 17), rng.uniform(16, shape[0] - 17)
        peak = min(10 * (rng.pareto(0.9) + 1), 3000)
        part = moffat(xx - (x - round(x)), yy - (y - round(y)), 3.4, 3.0)
        light[round(y) - 14 : round(y) + 15, round(x) - 14 : round(x) + 15] += peak * part
    return light


def _stacked(
    planes: Array, process: str, dithered: bool, subs: int, rng: np.random.Generator, light: bool
) -> Array:
    """The mean of subs; with the light or with its noise alone, which a linear way keeps apart."""
    half = 2 if process == "superpixel" else 1
    total = np.zeros((3, planes.shape[1] // half, planes.shape[2] // half))
    weight = np.zeros_like(total)
    for _ in range(subs):
        shift = rng.uniform(-3, 3, 2) if dithered else np.zeros(2)
        move = np.array([[1, 0, shift[0]], [0, 1, shift[1]]])
        seen = np.stack([_warp(p, move) for p in planes]) if dithered else planes
        mosaic = np.zeros(planes.shape[1:])
        for k, sites in enumerate(_sites(mosaic.shape)):
            expected = np.sqrt(subs * (1 + 0.02 * np.maximum(seen[k] - SKY, 0)))
            error = expected * rng.normal(size=mosaic.shape)
            mosaic[sites] = ((seen[k] if light else 0.0) + error)[sites]
        if process == "drizzled":
            _drop(total, weight, mosaic, shift)
            continue
        full = DEBAYERS[process](mosaic)
        back = np.array([[1, 0, -shift[0] / half], [0, 1, -shift[1] / half]])
        total += np.stack([_warp(p, back) for p in full]) if dithered else full
        weight += 1
    return np.asarray(total / np.maximum(weight, 1e-9))


def _sites(shape: tuple[int, ...]) -> list[NDArray[np.bool_]]:
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]] % 2
    return [(y == 0) & (x == 0), y != x, (y == 1) & (x == 1)]


def _warp(plane: Array, matrix: Array) -> Array:
    height, width = plane.shape
    return np.asarray(
        cv2.warpAffine(
            plane, matrix, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
        )
    )


def _bilinear(mosaic: Array) -> Array:
    kernel = np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]]) / 4.0
    out = []
    for sites in _sites(mosaic.shape):
        top = cv2.filter2D(
            np.where(sites, mosaic, 0), -1, kernel, borderType=cv2.BORDER_REFLECT_101
        )
        share = cv2.filter2D(sites.astype(float), -1, kernel, borderType=cv2.BORDER_REFLECT_101)
        out.append(np.where(sites, mosaic, top / share))
    return np.stack(out)


def _cross_colour(mosaic: Array) -> Array:
    """Linear interpolation corrected by the gradients of the other colours (Malvar, He & Cutler
    2004).
    """
    red, green, blue = _sites(mosaic.shape)
    y = np.mgrid[0 : mosaic.shape[0], 0 : mosaic.shape[1]][0] % 2
    at_green = np.array(
        [[0, 0, -1, 0, 0], [0, 0, 2, 0, 0], [-1, 2, 4, 2, -1], [0, 0, 2, 0, 0], [0, 0, -1, 0, 0]]
    )
    along = np.array(
        [
            [0, 0, 0.5, 0, 0],
            [0, -1, 0, -1, 0],
            [-1, 4, 5, 4, -1],
            [0, -1, 0, -1, 0],
            [0, 0, 0.5, 0, 0],
        ]
    )
    across = np.array(
        [
            [0, 0, -1.5, 0, 0],
            [0, 2, 0, 2, 0],
            [-1.5, 0, 6, 0, -1.5],
            [0, 2, 0, 2, 0],
            [0, 0, -1.5, 0, 0],
        ]
    )
    g, row, column, other = (
        cv2.filter2D(mosaic, -1, k / 8.0, borderType=cv2.BORDER_REFLECT_101)
        for k in (at_green, along, along.T, across)
    )
    out = np.stack([mosaic] * 3)
    out[1][~green] = g[~green]
    for plane, own, foreign, even in ((0, red, blue, 0), (2, blue, red, 1)):
        out[plane] = np.where(
            own, mosaic, np.where(foreign, other, np.where(y == even, row, column))
        )
    return out


def _superpixel(mosaic: Array) -> Array:
    """Half the size: every square of four sites is a pixel."""
    return np.stack(
        [mosaic[0::2, 0::2], (mosaic[0::2, 1::2] + mosaic[1::2, 0::2]) / 2, mosaic[1::2, 1::2]]
    )


def _drop(total: Array, weight: Array, mosaic: Array, shift: Array) -> None:
    """Every site's square laid where it belongs on the common grid (Fruchter & Hook 2002)."""
    whole = np.floor(-shift).astype(int)
    part = -shift - whole
    for k, sites in enumerate(_sites(mosaic.shape)):
        for dx, wx in ((0, 1 - part[0]), (1, part[0])):
            for dy, wy in ((0, 1 - part[1]), (1, part[1])):
                step = (int(whole[1]) + dy, int(whole[0]) + dx)
                total[k] += wx * wy * np.roll(np.where(sites, mosaic, 0.0), step, (0, 1))
                weight[k] += wx * wy * np.roll(sites.astype(float), step, (0, 1))


DEBAYERS = {"bilinear": _bilinear, "cross-colour": _cross_colour, "superpixel": _superpixel}

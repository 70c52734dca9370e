"""Stars and threads as another program would make them: nothing here is shared with the simulator
that ships, neither its profiles nor its noise nor its keywords.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

SKY = 100.0  # in the noise of the sky
UNIT = np.float32(1e-3)  # of a whole stack, that the noise of the sky is

Array = NDArray[np.float64]


@dataclass(frozen=True)
class StarField:
    """A stack (H, W), what is there without its stars, the noise per pixel, and its stars: places,
    peaks (in noise of the sky), widths to the next one (FWHM).
    """

    stack: NDArray[np.float32]
    ground: NDArray[np.float32]
    noise: NDArray[np.float32]
    light: NDArray[np.float32]
    x: Array
    y: Array
    peak: Array
    apart: Array


def moffat(dx: Array, dy: Array, fwhm: float, beta: float) -> Array:
    """A round profile, at single points."""
    alpha2 = (fwhm / 2) ** 2 / (2 ** (1 / beta) - 1)
    return np.asarray((1 + (dx * dx + dy * dy) / alpha2) ** -beta)


def two_parts(dx: Array, dy: Array, fwhm: float, _beta: float) -> Array:
    """A Gaussian core with broad wings, as thin cloud makes it."""
    core = np.exp(-(dx * dx + dy * dy) * 4 * np.log(2) / fwhm**2)
    return np.asarray(0.75 * core + 0.25 * moffat(dx, dy, 1.8 * fwhm, 2.5))


def threads(shape: tuple[int, int], rng: np.random.Generator) -> Array:
    """Clouds of four sizes and threads as narrow as a star, in noise of the sky."""
    yy, xx = np.mgrid[0 : shape[0], 0 : shape[1]].astype(float)
    out = np.zeros(shape)
    for size, strength in ((60, 40), (25, 18), (10, 7), (5, 2.5)):
        cloud = cv2.GaussianBlur(rng.normal(size=shape), (0, 0), size)
        out += strength * np.maximum(cloud / cloud.std(), -0.5)
    for number in range(9):
        turn, middle = rng.uniform(0, np.pi), rng.uniform(0.2, 0.8) * shape[1]
        across = (xx - middle) * np.cos(turn) + (yy - 0.7 * middle) * np.sin(turn)
        away = np.abs(across + 14 * np.sin(xx / 37 + number))
        out += rng.uniform(4, 16) * np.exp(-(away**2) / (2 * rng.uniform(1.8, 4) ** 2))
    return np.asarray(out - np.percentile(out, 10))


def star_field(
    seed: int,
    shape: tuple[int, int] = (448, 576),
    count: int = 250,
    fwhm: float = 3.2,
    beta: float = 3.0,
    profile=moffat,
    turned: bool = False,
    photon: float = 0.02,
) -> StarField:
    """A sixth of the stars stand 2 to 3 widths from another. ``turned``: the stack is resampled by
    a rotation, as a program that registers does.
    """
    rng = np.random.default_rng(seed)
    height, width = shape
    x, y = rng.uniform(4, width - 4, count), rng.uniform(4, height - 4, count)
    peak = np.minimum(8 * (rng.pareto(0.9, count) + 1), 8000)
    pairs = count // 6
    turn, away = rng.uniform(0, 2 * np.pi, pairs), rng.uniform(2, 3, pairs) * fwhm
    x[:pairs] = np.clip(x[pairs : 2 * pairs] + away * np.cos(turn), 4, width - 5)
    y[:pairs] = np.clip(y[pairs : 2 * pairs] + away * np.sin(turn), 4, height - 5)
    light = np.zeros(shape)
    for a, b, p in zip(x, y, peak, strict=True):
        reach = int(min(60, 12 + 2 * fwhm * (p / 0.05) ** (1 / (2 * beta))))
        x0, x1 = max(round(a) - reach, 0), min(round(a) + reach + 1, width)
        y0, y1 = max(round(b) - reach, 0), min(round(b) + reach + 1, height)
        gx, gy = np.meshgrid(np.arange(x0, x1) - a, np.arange(y0, y1) - b)
        parts = (-0.375, -0.125, 0.125, 0.375)
        light[y0:y1, x0:x1] += p * np.mean(
            [profile(gx + u, gy + v, fwhm, beta) for u in parts for v in parts], axis=0
        )
    ground = SKY + threads(shape, rng)
    noise = np.sqrt(1 + photon * np.maximum(ground + light - SKY, 0))
    planes = [ground + light + noise * rng.normal(size=shape), ground, light]
    if turned:
        turning = np.array(
            [[np.cos(0.02), -np.sin(0.02), 0.37], [np.sin(0.02), np.cos(0.02), -0.2]]
        )
        planes = [
            cv2.warpAffine(
                p, turning, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
            )
            for p in planes
        ]
        x, y = turning @ np.stack([x, y, np.ones(count)])
    apart = np.sort(np.hypot(x[:, None] - x, y[:, None] - y), axis=1)[:, 1] / fwhm
    calm = np.sqrt(1 + photon * np.maximum(planes[1] - SKY, 0))
    stack, there, stars = (np.asarray(p, np.float32) * UNIT for p in planes)
    return StarField(stack, there, calm.astype(np.float32) * UNIT, stars, x, y, peak, apart)

"""Leaks measured from the data: where only one line shines, the colour planes stand in the ratio of
its answer.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np

from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask
from ..numerics.smoothing import filled_means
from ..numerics.starlet import band
from .response import Response

_BLOCK: Final = 32
_BAND_NOISE: Final = 0.104  # of white noise, left in W3 + W4 + W5
_SAMPLES: Final = 17.0  # independent values of that band in a block
_FEW: Final = 12
_SHARP: Final = 0.03  # blocks that tell a slope less sharply hide the other line in their error
LOW: Final = 0.75
"""Share of the table's leak below which a bound speaks against the table. However high it is, it
never does: the other line raises it wherever it glows along.
"""
_MARGIN: Final = 1.25
"""What a bound is above the lowest blocks, which lay at .72 to 1.3 of the camera's leak (eight
skies without their stars).
"""
_CUT: Final = 0.288  # a Gaussian cut off at +1 sigma has its mean so much lower
_LIMITS: Final = {"G/R": (0.02, 0.25), "B/R": (0.01, 0.20), "R/G": (0.02, 0.15)}


@dataclass(frozen=True)
class Leaks:
    """Ratios as in G/R of Ha, measured; ``refused`` says why one could not be. Each is an upper
    bound: where the other line shines faintly along with this one, it is higher than the camera's
    leak.
    """

    values: dict[str, float]
    refused: dict[str, str]

    def disagreement(self, table: Mapping[str, float]) -> tuple[str, float] | None:
        """The bound that lies furthest below the table's leak, and how many times that it is; None:
        none does.
        """
        loud = [
            (n, v / table[n]) for n, v in self.values.items() if table.get(n) and v / table[n] < LOW
        ]
        return min(loud, key=lambda r: r[1]) if loud else None

    def applied(self, response: Response) -> Response:
        """The response with the bounds in place of what lies above them."""
        table = {plane: dict(row) for plane, row in response.table.items()}
        for name, value in self.values.items():
            ratio, _, line = name.partition(" of ")
            leak, main = ratio.split("/")
            table[leak][line] = min(table[leak][line], value * table[main][line])
        return Response(f"{response.name}, leaks measured", table)


def measure_leaks(planes: F32, lines: tuple[str, ...], sigma: np.ndarray, stars: Mask) -> Leaks:
    """Leaks of a debayered stack (3, H, W) that holds one red and one green line. ``sigma`` (3,) is
    the planes' large-scale noise, ``stars`` (H, W) what does not count.

    The ratio of two band-passed planes, block by block: the lowest cluster is where the other line
    is dark. It cannot see a line that follows the other everywhere. Raises NotEnoughData for other
    mixtures of lines.
    """
    red = [n for n in lines if n in ("Ha", "S2")]
    green = [n for n in lines if n in ("O3", "Hb")]
    if len(red) != 1 or len(green) != 1:
        raise NotEnoughData(
            "Leaks are measured where one red and one green line were shot",
            why=f"this stack holds {'+'.join(lines)}",
            do="Use the table, or a response of your own",
        )
    maps = [_half_band(p, stars) for p in planes]
    noise = [(s / 2 * _BAND_NOISE) ** 2 for s in sigma]
    values, refused = {}, {}
    for main, leak, line in ((0, 1, red[0]), (0, 2, red[0]), (1, 0, green[0])):
        name = f"{'RGB'[leak]}/{'RGB'[main]}"
        found = _lowest(maps[main], maps[leak], noise[main], noise[leak])
        low, high = _LIMITS[name]
        if found is None:
            refused[f"{name} of {line}"] = (
                "too few places where this line shines brightly and alone"
            )
        elif not low <= found <= high:
            refused[f"{name} of {line}"] = (
                f"{found:.3f} is no leak of a camera: the other line follows it everywhere"
            )
        else:
            values[f"{name} of {line}"] = _MARGIN * found
    return Leaks(values, refused)


def _half_band(plane: F32, stars: Mask) -> F32:
    """A plane at half size, stars filled, band-passed."""
    half, _ = filled_means(plane, np.isfinite(plane) & ~stars, 2)
    return band(half, 3, 5)


def _lowest(x_map: F32, y_map: F32, noise_x: float, noise_y: float) -> float | None:
    """The lowest slope of y on x on which enough blocks agree."""
    rows, columns = (n // _BLOCK for n in x_map.shape)
    if rows * columns < _FEW:
        return None

    def blocked(values: F32) -> np.ndarray:
        cut = values[: rows * _BLOCK, : columns * _BLOCK].reshape(rows, _BLOCK, columns, _BLOCK)
        return cut.swapaxes(1, 2).reshape(rows * columns, -1).astype(float)

    x, y = blocked(x_map), blocked(y_map)
    x, y = x - x.mean(1, keepdims=True), y - y.mean(1, keepdims=True)
    light = (x * x).mean(1) - noise_x
    light[light <= 0] = np.nan
    with np.errstate(invalid="ignore"):
        slope = (x * y).mean(1) / light
        chi2 = ((y - slope[:, None] * x) ** 2).mean(1) / (noise_y + slope**2 * noise_x)
        error = np.sqrt((noise_y + slope**2 * noise_x) / (_SAMPLES * light))
    good = (light > 4 * noise_x) & (chi2 < 2) & (slope > 0) & (error < _SHARP)
    if good.sum() < _FEW:
        return None
    slope, error = slope[good], error[good]
    wanted = max(6, round(0.08 * slope.size))
    for n in np.argsort(slope):
        near = np.abs(slope - slope[n]) < 2 * np.hypot(error, error[n])
        if near.sum() >= wanted:
            return _lower_edge(
                slope, error, float(np.average(slope[near], weights=1 / error[near] ** 2))
            )
    return None


def _lower_edge(slope: np.ndarray, error: np.ndarray, start: float) -> float:
    """The slope of the blocks without the other line, which only ever raises it: those far above do
    not count, and what cutting them off takes from the mean of the rest is given back.
    """
    found = start
    for _ in range(12):
        keep = (slope < found + error) & (slope > found - 3 * error)
        if keep.sum() < 4:
            break
        found = float(np.average(slope[keep] + _CUT * error[keep], weights=1 / error[keep] ** 2))
    return found
